package estate

import (
	"context"
	"net/url"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/tree/bucket"
)

// The password of a proxy's user is sealed apart from the settings of the account, and bound to the address of the proxy and the user.

func proxyLabel(c *model.CloudReach) string { return "proxy " + c.Proxy }

// hasProxyUser reports whether the proxy of an account requires a sign-in.
func hasProxyUser(v model.Server) bool {
	if v.Cloud == nil {
		return false
	}
	u, err := url.Parse(v.Cloud.Proxy)
	return err == nil && u.User.Username() != ""
}

// proxyOf parses the proxy of an account; nil when it has none.
func proxyOf(c *model.CloudReach) (*url.URL, error) {
	if c.Proxy == "" && c.ProxyPassword == "" {
		return nil, nil
	}
	u, err := bucket.ParseProxy(c.Proxy, string(c.ProxyPassword))
	if err != nil {
		return nil, fault.Field("cloud.proxy", "write it as http://HOST:PORT, or http://USER@HOST:PORT where it asks for a password", "that is no proxy: %v", err)
	}
	return u, nil
}

// withProxy puts the password of its proxy into the settings of an account.
func (s *Service) withProxy(ctx context.Context, v *model.Server) error {
	if !hasProxyUser(*v) || v.Cloud.ProxyPassword != "" {
		return nil
	}
	sealed, err := s.db.ProxySecret(ctx, v.Name)
	if err != nil {
		return err
	}
	password, err := s.vault.Unseal(proxyLabel(v.Cloud), sealed)
	if err != nil {
		return err
	}
	own := *v.Cloud
	own.ProxyPassword = model.Secret(password)
	v.Cloud = &own
	return nil
}

// keepProxy stores the password of a proxy, or removes the stored one.
func (s *Service) keepProxy(ctx context.Context, tx *records.Tx, v model.Server) error {
	var sealed []byte
	if hasProxyUser(v) {
		sealed = s.vault.Seal(proxyLabel(v.Cloud), string(v.Cloud.ProxyPassword))
	}
	return tx.SetProxySecret(ctx, v.Name, sealed)
}
