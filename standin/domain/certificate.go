package domain

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"time"
)

// writeCertificate makes a key and a certificate that vouches for itself, for
// the controller's name and address.
func (d *Controller) writeCertificate() error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: d.Host()},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(10, 0, 0),
		DNSNames: []string{d.Host()}, IPAddresses: []net.IP{net.ParseIP(d.Address)},
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	certificate, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate})
	for name, content := range map[string][]byte{"tls/ca.pem": text, "tls/cert.pem": text, "tls/key.pem": pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})} {
		mode := os.FileMode(0o644)
		if name == "tls/key.pem" {
			mode = 0o600
		}
		if err := os.WriteFile(d.path(name), content, mode); err != nil {
			return err
		}
	}
	return nil
}
