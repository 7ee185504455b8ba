package domain

import (
	"os"

	"bridgespan/certificate"
)

// writeCertificate makes a key and a certificate for the controller's name and
// address, and the authority that vouches for it.
func (d *Controller) writeCertificate() error {
	authority, err := certificate.New("directory of "+d.Name, d.Host(), d.Address)
	if err != nil {
		return err
	}
	issued, err := authority.Issue(d.Host(), d.Address)
	if err != nil {
		return err
	}
	text, key, err := certificate.Files(issued)
	if err != nil {
		return err
	}
	for name, content := range map[string][]byte{"tls/ca.pem": authority.PEM(), "tls/cert.pem": text} {
		if err := os.WriteFile(d.path(name), content, 0o644); err != nil {
			return err
		}
	}
	return os.WriteFile(d.path("tls/key.pem"), key, 0o600)
}
