// Package certificate makes certificates for servers that have none: an
// authority of their own is made once and kept, and vouches for certificates
// that are made as they are needed (RFC 5280). Whoever trusts the authority's
// file trusts the servers, also after their names and certificates changed.
package certificate

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"
)

// How long certificates last. Clients refuse those of servers that last much
// longer than two years.
const (
	authorityYears = 10
	serverDays     = 800
	renewBefore    = 60 * 24 * time.Hour
)

// Names of an authority's files in its folder.
const (
	CertificateFile = "bspan-ca.pem" // to hand out to those who connect
	KeyFile         = "bspan-ca.key"
)

// Authority vouches for certificates.
type Authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// New makes an authority that vouches for servers of some names and addresses, of
// addresses of private networks, and of no others: whoever gets hold of its key can stand in
// for nobody else.
func New(name string, names ...string) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(authorityYears, 0, 0),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign,
	}
	constrain(template, names)
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	parsed, err := x509.ParseCertificate(der)
	return &Authority{parsed, key}, err
}

func serial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)) // rand.Reader never fails
	return n
}

// Open reads the authority of a folder, or makes one there, as New does; made tells which.
func Open(dir, name string, names ...string) (a *Authority, made bool, err error) {
	certificate, err := os.ReadFile(filepath.Join(dir, CertificateFile))
	if errors.Is(err, fs.ErrNotExist) {
		if a, err = New(name, names...); err == nil {
			err = a.write(dir)
		}
		return a, true, err
	}
	if err != nil {
		return nil, false, err
	}
	key, err := os.ReadFile(filepath.Join(dir, KeyFile))
	if err != nil {
		return nil, false, err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		return nil, false, fmt.Errorf("%s and %s in %s do not fit together: %w", CertificateFile, KeyFile, dir, err)
	}
	private, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok || !pair.Leaf.IsCA {
		return nil, false, fmt.Errorf("%s in %s is no authority that was made here", CertificateFile, dir)
	}
	return &Authority{pair.Leaf, private}, false, nil
}

// write keeps the key before the certificate, so that whoever finds the
// certificate finds the key. Of two who write at once one wins.
func (a *Authority) write(dir string) error {
	key, err := keyPEM(a.key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, KeyFile), key, 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, CertificateFile), a.PEM(), 0o644)
}

// PEM is the authority's certificate, to be trusted.
func (a *Authority) PEM() []byte { return certificatePEM(a.certificate.Raw) }

// Fingerprint is the SHA-256 of the authority's certificate, in hexadecimal.
func (a *Authority) Fingerprint() string {
	sum := sha256.Sum256(a.certificate.Raw)
	return hex.EncodeToString(sum[:])
}

func certificatePEM(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

func keyPEM(key *ecdsa.PrivateKey) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), err
}

// Issue makes a certificate for a server by its names and addresses. Those that the
// authority may not vouch for are left out: with them, none would be trusted.
func (a *Authority) Issue(names ...string) (tls.Certificate, error) {
	names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !a.Permits(name) })
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	template := &x509.Certificate{
		SerialNumber: serial(), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 0, serverDays),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
	if len(names) > 0 {
		template.Subject.CommonName = names[0]
	}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, key.Public(), a.key)
	if err != nil {
		return tls.Certificate{}, err
	}
	leaf, err := x509.ParseCertificate(der)
	return tls.Certificate{Certificate: [][]byte{der, a.certificate.Raw}, PrivateKey: key, Leaf: leaf}, err
}

// Files are a certificate that was issued and its key, in PEM.
func Files(c tls.Certificate) (certificate, key []byte, err error) {
	private, ok := c.PrivateKey.(*ecdsa.PrivateKey)
	if !ok {
		return nil, nil, errors.New("this key was not made here")
	}
	for _, der := range c.Certificate {
		certificate = append(certificate, certificatePEM(der)...)
	}
	key, err = keyPEM(private)
	return certificate, key, err
}

// Server issues certificates for one server as they are needed: its
// GetCertificate suits tls.Config.
func (a *Authority) Server(names ...string) func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	var mu sync.Mutex
	var now *tls.Certificate
	return func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		mu.Lock()
		defer mu.Unlock()
		if now != nil && time.Until(now.Leaf.NotAfter) > renewBefore {
			return now, nil
		}
		issued, err := a.Issue(names...)
		if err != nil {
			return nil, err
		}
		now = &issued
		return now, nil
	}
}
