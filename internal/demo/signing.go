package demo

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"encoding/hex"
	"io"
	"math/big"
	"strings"
	"time"

	"lockback/core/format/regf"
)

// The programs of the museum are signed by a made-up authority. Its keys are made of words, so
// that every copy of the museum is the same to the byte; they protect nothing.

const signedHash = crypto.SHA256

// signer is somebody who signs programs.
type signer struct {
	key          *ecdsa.PrivateKey
	certificate  *x509.Certificate
	certificates [][]byte // its own, and that of the authority
}

func keyOf(words string) *ecdsa.PrivateKey {
	sum := sha256.Sum256([]byte("Gullrock Lighthouse Museum: " + words))
	key, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), sum[:])
	if err != nil {
		panic(err) // the words are fixed
	}
	return key
}

// sure signs without chance, RFC 6979: the same text has the same signature.
type sure struct{ *ecdsa.PrivateKey }

func (s sure) Sign(_ io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	return s.PrivateKey.Sign(nil, digest, opts)
}

var made = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)

// museumRoot is the authority that the museum's computers believe.
func museumRoot() *x509.Certificate {
	return certify(&x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Gullrock Test Root",
		Organization: []string{"Gullrock Lighthouse Museum"}},
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}, nil, "Gullrock Test Root")
}

func certify(c, parent *x509.Certificate, words string) *x509.Certificate {
	c.NotBefore, c.NotAfter = made, made.AddDate(30, 0, 0)
	issuer, key := parent, keyOf("Gullrock Test Root")
	if parent == nil {
		issuer = c
	}
	der, err := x509.CreateCertificate(nil, c, issuer, keyOf(words).Public(), sure{key})
	if err != nil {
		panic(err) // nothing in it comes from outside
	}
	parsed, err := x509.ParseCertificate(der)
	if err != nil {
		panic(err)
	}
	return parsed
}

// signerFor is a maker with a certificate of the museum's authority.
func signerFor(maker string, extra ...pkix.Extension) signer {
	root := museumRoot()
	sum := sha256.Sum256([]byte(maker))
	c := certify(&x509.Certificate{SerialNumber: new(big.Int).SetBytes(sum[:8]), Subject: pkix.Name{CommonName: maker,
		Organization: []string{maker}},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning},
		BasicConstraintsValid: true, ExtraExtensions: extra}, root, maker)
	return signer{key: keyOf(maker), certificate: c, certificates: [][]byte{c.Raw, root.Raw}}
}

// Identifiers of what a signature consists of, see core/format/authenticode.
var (
	idSignedData    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	idData          = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	idContentType   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 3}
	idMessageDigest = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 4}
	idIndirectData  = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 4}
	idImageData     = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 15}
	idSHA256        = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}
	idECDSA         = asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}
)

type algorithm struct {
	ID         asn1.ObjectIdentifier
	Parameters asn1.RawValue `asn1:"optional"`
}

type attribute struct {
	Type   asn1.ObjectIdentifier
	Values any `asn1:"set"`
}

type signerInfo struct {
	Version         int
	Issuer          issuerAndSerial
	Digest          algorithm
	Attributes      asn1.RawValue
	Encryption      algorithm
	EncryptedDigest []byte
}

type issuerAndSerial struct {
	Issuer asn1.RawValue
	Serial *big.Int
}

func der(v any) []byte {
	b, err := asn1.Marshal(v)
	if err != nil {
		panic(err) // nothing in it comes from outside
	}
	return b
}

// tagged gives encoded values a head of their own.
func tagged(class, tag int, content ...[]byte) asn1.RawValue {
	var all []byte
	for _, c := range content {
		all = append(all, c...)
	}
	return asn1.RawValue{Class: class, Tag: tag, IsCompound: true, Bytes: all}
}

func sequenceOf(content ...[]byte) []byte {
	return der(tagged(asn1.ClassUniversal, asn1.TagSequence, content...))
}

// authenticode is the signature of a program whose digest is sum.
func (s signer) authenticode(sum []byte) ([]byte, error) {
	content := sequenceOf(imageData(), sequenceOf(der(algorithm{ID: idSHA256, Parameters: asn1.NullRawValue}),
		der(sum)))
	return s.message(idIndirectData, content, true)
}

// imageData says that a digest is that of a program: SpcPeImageData, without flags, of a file
// that is not named.
func imageData() []byte {
	return sequenceOf(der(idImageData), sequenceOf(der(asn1.BitString{}),
		der(tagged(asn1.ClassContextSpecific, 0,
			der(tagged(asn1.ClassContextSpecific, 2, der(asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0})))))))
}

// message is a PKCS #7 message over content, which stands in it or beside it. What is signed of
// content is what its head, if it is a sequence, encloses.
func (s signer) message(kind asn1.ObjectIdentifier, content []byte, inside bool) ([]byte, error) {
	signedContent := content
	if inside {
		var head asn1.RawValue
		if _, err := asn1.Unmarshal(content, &head); err != nil {
			return nil, err
		}
		signedContent = head.Bytes
	}
	digest := sha256.Sum256(signedContent)
	attributes := append(der(attribute{idContentType, []asn1.ObjectIdentifier{kind}}),
		der(attribute{idMessageDigest, [][]byte{digest[:]}})...)
	sum := sha256.Sum256(der(asn1.RawValue{Tag: asn1.TagSet, IsCompound: true, Bytes: attributes}))
	signature, err := sure{s.key}.Sign(nil, sum[:], signedHash)
	if err != nil {
		return nil, err
	}
	info := der(signerInfo{1, issuerAndSerial{asn1.RawValue{FullBytes: s.certificate.RawIssuer},
		s.certificate.SerialNumber}, algorithm{ID: idSHA256, Parameters: asn1.NullRawValue},
		tagged(asn1.ClassContextSpecific, 0, attributes), algorithm{ID: idECDSA}, signature})
	inner := [][]byte{der(kind)}
	if inside {
		inner = append(inner, der(tagged(asn1.ClassContextSpecific, 0, content)))
	}
	message := sequenceOf(der(1), der(tagged(asn1.ClassUniversal, asn1.TagSet,
		der(algorithm{ID: idSHA256, Parameters: asn1.NullRawValue}))), sequenceOf(inner...),
		der(tagged(asn1.ClassContextSpecific, 0, s.certificates...)), der(tagged(asn1.ClassUniversal, asn1.TagSet,
			info)))
	return sequenceOf(der(idSignedData), der(tagged(asn1.ClassContextSpecific, 0, message))), nil
}

// selfSigner is a maker who vouches for itself.
func selfSigner(maker string) signer {
	sum := sha256.Sum256([]byte(maker))
	template := &x509.Certificate{SerialNumber: new(big.Int).SetBytes(sum[:8]), Subject: pkix.Name{CommonName: maker,
		Organization: []string{maker}}, NotBefore: made, NotAfter: made.AddDate(30, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning},
		BasicConstraintsValid: true}
	key := keyOf(maker)
	raw, err := x509.CreateCertificate(nil, template, template, key.Public(), sure{key})
	if err != nil {
		panic(err) // nothing in it comes from outside
	}
	c, err := x509.ParseCertificate(raw)
	if err != nil {
		panic(err)
	}
	return signer{key: key, certificate: c, certificates: [][]byte{raw}}
}

// thumbprint is the name that a store of certificates gives one.
func thumbprint(c *x509.Certificate) string {
	sum := sha1.Sum(c.Raw)
	return strings.ToUpper(hex.EncodeToString(sum[:]))
}

// stored is a certificate as a store of the registry holds it.
func stored(c *x509.Certificate) regf.Value {
	var b []byte
	for _, v := range []uint32{32, 1, uint32(len(c.Raw))} {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return regf.Value{Name: "Blob", Type: regf.Binary, Data: append(b, c.Raw...)}
}
