package estate

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"unicode"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
)

// An account at an object service is a server whose shares are buckets. Its access key is the account, and its
// secret key is sealed like a password.

// cloudTarget returns the connection settings of an account.
func cloudTarget(v model.Server, secret string) (t bucket.Target, err error) {
	t = bucket.Target{Endpoint: hostPort(v), Plain: v.Cloud.Plain, Region: v.Cloud.Region, PathStyle: v.Cloud.PathStyle, Key: v.Account, Secret: secret}
	if v.Cloud.Authority != "" {
		if t.Roots, err = bucket.Authority(v.Cloud.Authority); err != nil {
			return t, fault.Field("cloud.authority", "give the CA certificate in PEM", "%v", err)
		}
	}
	t.Proxy, err = proxyOf(v.Cloud)
	return t, err
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

// greetCloud connects to a service and disconnects. It sends no request, since the provider charges for each.
func greetCloud(ctx context.Context, v model.Server) error {
	t, err := cloudTarget(v, "")
	if err != nil {
		return err
	}
	return bucket.Greet(ctx, t)
}

// mostPrice is beyond what any provider charges for a GB.
const mostPrice = 1e6

func checkPrices(c *model.CloudReach) error {
	for _, p := range []struct {
		field string
		price float64
	}{{"cloud.storedPrice", c.StoredPrice}, {"cloud.outPrice", c.OutPrice}} {
		if !(p.price >= 0 && p.price <= mostPrice) {
			return fault.Field(p.field, "enter the price of 1 GB, such as 0.023", "%g is no price", p.price)
		}
	}
	if c.Currency == "" && (c.StoredPrice > 0 || c.OutPrice > 0) {
		return fault.Field("cloud.currency", "enter the currency of the prices, such as EUR", "the prices have no currency")
	}
	if len(c.Currency) > 8 || strings.ContainsFunc(c.Currency, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.Is(unicode.Sc, r) }) {
		return fault.Field("cloud.currency", "enter a currency such as EUR or €", "%q is no currency", c.Currency)
	}
	return nil
}

// checkCloud validates the settings of an account.
func checkCloud(v *model.Server) error {
	switch {
	case v.Domain != "":
		return fault.Field("domain", "remove the domain", "an object service has no domains")
	case v.Account == "" || len(v.Account) > 255:
		return fault.Field("account", "enter the access key", "an access key is needed")
	case v.Cloud.Region == "":
		return fault.Field("cloud.region", "enter the region of the buckets, as the provider names it", "a region is needed")
	}
	if err := checkPrices(v.Cloud); err != nil {
		return err
	}
	if _, err := cloudTarget(*v, ""); err != nil {
		return err
	}
	if hasProxyUser(*v) && v.Cloud.ProxyPassword == "" {
		return fault.Field("proxyPassword", "enter the password of the proxy user", "the password is missing: a stored password is sent only to the proxy, and for the user, that it was given for")
	}
	return checkNote(v.Note)
}

// blameCloud turns a failed sign-in to an object service into a fault at the field to change.
func blameCloud(v model.Server, err error) error {
	var untrusted *tls.CertificateVerificationError
	at := hostPort(v)
	switch {
	case errors.Is(err, bucket.ErrProxy):
		return fault.Field("proxyPassword", "check the user and the password at the proxy", "the proxy %s refuses the user or the password", v.Cloud.Proxy).Because(err)
	case errors.Is(err, bucket.ErrKey):
		return fault.Field("password", "check the access key and its secret", "%s rejects the access key %s", at, v.Account).Because(err)
	case errors.Is(err, bucket.ErrRegion):
		return fault.Field("cloud.region", "enter the region of the buckets, as the provider names it", "%s is not in the region %s: %v", at, v.Cloud.Region, err).Because(err)
	case errors.As(err, &untrusted):
		return fault.Field("cloud.authority", "give the CA certificate of the service", "the certificate of %s is not trusted: %v", at, untrusted.Err).Because(err)
	case errors.Is(err, http.ErrSchemeMismatch):
		return fault.Field("cloud.plain", "use an address with TLS, or turn TLS off on a network that you trust", "%s does not use TLS", at).Because(err)
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, context.DeadlineExceeded):
		if v.Cloud.Proxy != "" {
			return fault.Field("cloud.proxy", "check the proxy, and the address behind it", "nothing answers at %s through the proxy %s", at, v.Cloud.Proxy).Because(err)
		}
		return fault.Field("address", "check address and port, that the service runs and that no firewall is between", "nothing answers at %s", at).Because(err)
	}
	return fault.Field("address", "check that an S3 object service listens there, and its region", "the sign-in at %s failed: %v", at, err).Because(err)
}

// keyRights is the remedy when an access key lacks a right.
func keyRights(v model.Server) string {
	return fmt.Sprintf("grant the access key %s the rights to list, read, write and delete there", v.Account)
}
