package cloud

import (
	"encoding/xml"
	"fmt"
	"net/http"
)

// Error is the error document of a refused request, as listed in the S3 API reference ("Error responses").
type Error struct {
	XMLName  xml.Name `xml:"Error"`
	Status   int      `xml:"-"`
	Code     string
	Message  string
	Resource string `xml:",omitempty"`
	Region   string `xml:",omitempty"` // for AuthorizationHeaderMalformed and PermanentRedirect
	// Condition is the header of the precondition that failed.
	Condition string `xml:",omitempty"`
	RequestID string `xml:"RequestId"`
}

func (e *Error) Error() string { return e.Code + ": " + e.Message }

func refuse(status int, code, format string, args ...any) *Error {
	return &Error{Status: status, Code: code, Message: fmt.Sprintf(format, args...)}
}

// Errors that are returned from several places.
func noSuchKey(key string) *Error {
	return &Error{Status: http.StatusNotFound, Code: "NoSuchKey", Message: "The specified key does not exist.", Resource: key}
}

func noSuchBucket(name string) *Error {
	return &Error{Status: http.StatusNotFound, Code: "NoSuchBucket", Message: "The specified bucket does not exist.", Resource: name}
}

func noSuchUpload() *Error {
	return refuse(http.StatusNotFound, "NoSuchUpload", "The specified upload does not exist. It may have been aborted or completed.")
}

func accessDenied(format string, args ...any) *Error {
	return refuse(http.StatusForbidden, "AccessDenied", format, args...)
}

func invalidArgument(format string, args ...any) *Error {
	return refuse(http.StatusBadRequest, "InvalidArgument", format, args...)
}

func preconditionFailed(header string) *Error {
	e := refuse(http.StatusPreconditionFailed, "PreconditionFailed", "At least one of the pre-conditions you specified did not hold")
	e.Condition = header
	return e
}
