package estate

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
)

// An account at an object service is a server whose shares are buckets. Its access key is its account, and the
// secret of the key is sealed as passwords are.

// cloudTarget is how the service of an account is reached.
func cloudTarget(v model.Server, secret string) (t bucket.Target, err error) {
	t = bucket.Target{Endpoint: hostPort(v), Plain: v.Cloud.Plain, Region: v.Cloud.Region, PathStyle: v.Cloud.PathStyle, Key: v.Account, Secret: secret}
	if v.Cloud.Authority != "" {
		if t.Roots, err = bucket.Authority(v.Cloud.Authority); err != nil {
			return t, fault.Field("cloud.authority", "give the certificate of the authority in PEM", "%v", err)
		}
	}
	return t, nil
}

func cloudAt(ctx context.Context, v model.Server, secret string) (endpoint.Endpoint, error) {
	ctx, cancel := context.WithTimeout(ctx, tryTimeout)
	defer cancel()
	t, err := cloudTarget(v, secret)
	if err != nil {
		return nil, err
	}
	return endpoint.Cloud(ctx, t)
}

// greetCloud looks whether a service is there. It asks for nothing, which would cost something each time.
func greetCloud(ctx context.Context, v model.Server) error {
	t, err := cloudTarget(v, "")
	if err != nil {
		return err
	}
	return bucket.Greet(ctx, t)
}

// checkCloud checks what is to be kept of an account.
func checkCloud(v *model.Server) error {
	switch {
	case v.Domain != "":
		return fault.Field("domain", "leave it out", "an object service knows no domains")
	case v.Account == "" || len(v.Account) > 255:
		return fault.Field("account", "give the access key", "an access key is needed")
	case v.Cloud.Region == "":
		return fault.Field("cloud.region", "give the region of the buckets, as the provider calls it", "a region is needed")
	}
	if _, err := cloudTarget(*v, ""); err != nil {
		return err
	}
	return checkNote(v.Note)
}

// blameCloud turns a failure to sign in to an object service into a fault at the field to be changed.
func blameCloud(v model.Server, err error) error {
	var untrusted *tls.CertificateVerificationError
	at := hostPort(v)
	switch {
	case errors.Is(err, bucket.ErrKey):
		return fault.Field("password", "check access key and secret", "%s refuses the key %s", at, v.Account).Because(err)
	case errors.As(err, &untrusted):
		return fault.Field("cloud.authority", "give the certificate of the authority that vouches for it", "the certificate of %s is not trusted: %v", at, untrusted.Err).Because(err)
	case errors.Is(err, http.ErrSchemeMismatch):
		return fault.Field("cloud.plain", "ask the provider for an address with TLS; only where nobody is between, reach it without", "%s does not speak TLS", at).Because(err)
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, context.DeadlineExceeded):
		return fault.Field("address", "check address and port, that the service runs and that no firewall is between", "nothing answers at %s", at).Because(err)
	}
	return fault.Field("address", "check that an object service listens there, and its region", "%s does not let us sign in: %v", at, err).Because(err)
}

// keyRights is what to do when a key may not do something.
func keyRights(v model.Server) string {
	return fmt.Sprintf("give the key %s the right to list, read, write and delete there", v.Account)
}
