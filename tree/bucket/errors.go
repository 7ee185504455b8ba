package bucket

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"

	"github.com/minio/minio-go/v7"

	"bridgespan/tree"
)

var (
	errNoBucket = fmt.Errorf("%w: there is no such bucket", tree.ErrUnreachable)
	// ErrRegion: the service, or the bucket, is in another region than the target says.
	ErrRegion = fmt.Errorf("%w: another region", tree.ErrUnreachable)
	// ErrProxy: the proxy refuses its user.
	ErrProxy       = fmt.Errorf("%w: the proxy refuses the user or the password", tree.ErrUnreachable)
	errLongElement = fmt.Errorf("%w: element longer than %d bytes", fs.ErrInvalid, mostElement)
)

// invalid is the error of a name that cannot be a key.
type invalid struct{ error }

func (i invalid) Is(target error) bool { return target == fs.ErrInvalid }

// classes maps error codes of services ("Error responses" of the S3 API reference) to errors of trees.
var classes = map[string]error{
	"NoSuchKey":             fs.ErrNotExist,
	"NoSuchVersion":         fs.ErrNotExist,
	"NoSuchUpload":          tree.ErrTorn,
	"NoSuchBucket":          tree.ErrUnreachable,
	"AccessDenied":          fs.ErrPermission,
	"AllAccessDisabled":     fs.ErrPermission,
	"InvalidAccessKeyId":    ErrKey,
	"SignatureDoesNotMatch": ErrKey,
	// the scope of the signature names another region
	"AuthorizationHeaderMalformed": ErrRegion,
	"RequestTimeTooSkewed":         tree.ErrUnreachable,
	"QuotaExceeded":                tree.ErrNoSpace,
	"EntityTooLarge":               tree.ErrUnsupported,
	"KeyTooLongError":              fs.ErrInvalid,
	"MetadataTooLarge":             fs.ErrInvalid,
	"PermanentRedirect":            ErrRegion,
	"NotImplemented":               tree.ErrUnsupported,
	"PreconditionFailed":           tree.ErrVersion,
	"SlowDown":                     tree.ErrUnreachable,
	"InternalError":                tree.ErrUnreachable,
	"ServiceUnavailable":           tree.ErrUnreachable,
}

// classified wraps an error of the service in the error of a tree that it stands for.
func classified(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	for _, ours := range []error{tree.ErrUntrusted, tree.ErrTorn, tree.ErrAltered, tree.ErrKind, tree.ErrVersion, tree.ErrUnreachable, tree.ErrUnsupported, tree.ErrNotEmpty, fs.ErrNotExist, fs.ErrExist, fs.ErrInvalid} {
		if errors.Is(err, ours) {
			return err
		}
	}
	var answer minio.ErrorResponse
	if !errors.As(err, &answer) {
		return fmt.Errorf("%w: %w", tree.ErrUnreachable, err)
	}
	if class, known := classes[answer.Code]; known {
		return fmt.Errorf("%w: %w", class, err)
	}
	switch {
	case answer.StatusCode == http.StatusProxyAuthRequired:
		return fmt.Errorf("%w: %w", ErrProxy, err)
	case answer.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	case answer.StatusCode == http.StatusForbidden:
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	case answer.StatusCode >= http.StatusInternalServerError:
		return fmt.Errorf("%w: %w", tree.ErrUnreachable, err)
	}
	return err
}

func pathError(op, name string, err error) error { return tree.PathError(op, name, classified(err)) }

// absent reports whether an error means that the object does not exist.
func absent(err error) bool { return errors.Is(classified(err), fs.ErrNotExist) }

// uploadGone reports whether an error means that an upload was completed or aborted.
func uploadGone(err error) bool { return answerOf(err).Code == "NoSuchUpload" }

// answerOf is the answer of the service in an error, or the zero value.
func answerOf(err error) (answer minio.ErrorResponse) {
	errors.As(err, &answer)
	return answer
}

// refusedByCondition reports whether a precondition failed.
func refusedByCondition(err error) bool {
	return answerOf(err).StatusCode == http.StatusPreconditionFailed
}
