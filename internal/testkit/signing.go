package testkit

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Authority is a certificate with its key, and the certificates above it.
type Authority struct {
	Certificate *x509.Certificate
	Key         *rsa.PrivateKey
	chain       []*x509.Certificate
}

// Certify makes a certificate under an authority, or a root under nobody. Usage is what it may be
// used for; a certificate without one is an authority.
func Certify(t testing.TB, under *Authority, name string, from, to time.Time, usage ...x509.ExtKeyUsage) *Authority {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name, Organization: []string{name}},
		NotBefore: from, NotAfter: to, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: usage}
	if len(usage) == 0 {
		c.IsCA, c.KeyUsage = true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign
	}
	if len(usage) == 1 && usage[0] == x509.ExtKeyUsageTimeStamping {
		// RFC 3161, 2.3: that must be all, and critical.
		purposes, err := asn1.Marshal([]asn1.ObjectIdentifier{{1, 3, 6, 1, 5, 5, 7, 3, 8}})
		require.NoError(t, err)
		c.ExtKeyUsage, c.ExtraExtensions = nil, []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 37},
			Critical: true, Value: purposes}}
	}
	parent, signer, chain := c, key, []*x509.Certificate(nil)
	if under != nil {
		parent, signer, chain = under.Certificate, under.Key, append([]*x509.Certificate{under.Certificate},
			under.chain...)
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
	require.NoError(t, err)
	parsed, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &Authority{parsed, key, chain}
}

// Files writes the certificate with those above it, and its key, and returns their names.
func (a *Authority) Files(t testing.TB, dir, name string) (certificates, key string) {
	t.Helper()
	certificates, key = filepath.Join(dir, name+".pem"), filepath.Join(dir, name+".key")
	var all []byte
	for _, c := range append([]*x509.Certificate{a.Certificate}, a.chain...) {
		all = append(all, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	require.NoError(t, os.WriteFile(certificates, all, 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY",
		Bytes: x509.MarshalPKCS1PrivateKey(a.Key)}), 0o600))
	return certificates, key
}
