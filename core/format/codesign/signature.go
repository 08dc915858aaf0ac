package codesign

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/smallstep/pkcs7"

	"lockback/core/format/cms"
)

// Signature is what the signature of a program says.
type Signature struct {
	// Identifier is what the signer calls the program, Team whose it is; empty without one.
	Identifier, Team string
	// AdHoc says that nobody signed: the code only has digests of itself.
	AdHoc bool
	// Runtime says that the hardened runtime is on.
	Runtime bool
	// Platform says that it claims to be a part of macOS. Only a signer of Apple's may.
	Platform bool
	// Signer made the signature; nil if it is ad hoc. Certificates are all that came with it.
	Signer       *x509.Certificate
	Certificates []*x509.Certificate
	// Time is the signer's own word for when; the zero time where it says none.
	Time time.Time
	// Entitlements is the property list of what the program may do; nil if there is none.
	Entitlements []byte

	hash    crypto.Hash
	special map[int][]byte // digests of what else is sealed, by the number of its slot
}

// Slots of what a signature seals beside the code.
const (
	InfoPlist     = 1
	requirements  = 2
	CodeResources = 3 // the list of the sealed resources
	entitlements  = 5
	derEntitled   = 7
)

// Numbers of kern/cs_blobs.h.
const (
	magicSuperBlob     = 0xfade0cc0
	magicCodeDirectory = 0xfade0c02
	magicCMS           = 0xfade0b01

	slotCodeDirectory = 0
	slotAlternate     = 0x1000 // and the four behind it
	slotCMS           = 0x10000

	flagAdHoc   = 0x2
	flagRuntime = 0x10000

	versionTeam     = 0x20200
	versionLimit64  = 0x20300
	earliestVersion = 0x20001
)

// ErrUnsigned says that there is no signature.
var ErrUnsigned = errors.New("it is not signed")

// Signature reads the signature, and compares the code with it. It fails where the code is not
// what was signed, or the signature does not hold by itself.
func (c Code) Signature() (s Signature, err error) {
	if !c.Signed() {
		return s, ErrUnsigned
	}
	at, size := c.signature.at, c.signature.size
	if at+size > c.size || size > maxSignature {
		return s, errors.New("the signature is cut off")
	}
	super := make([]byte, size)
	if _, err := c.r.ReadAt(super, at); err != nil && !errors.Is(err, io.EOF) {
		return s, err
	}
	blobs, err := index(super)
	if err != nil {
		return s, err
	}
	main := blobs[slotCodeDirectory]
	directory, err := parseDirectory(main)
	if err != nil {
		return s, err
	}
	s = Signature{Identifier: directory.identifier, Team: directory.team, AdHoc: directory.flags&flagAdHoc != 0,
		Runtime:  directory.flags&flagRuntime != 0,
		Platform: directory.platform != 0, hash: directory.hash, special: directory.special}
	// Of several directories, all must hold; the strongest seals what lies beside. There are two
	// in the programs of the years around 2016, and one else.
	for k := range maxAlternates {
		blob, ok := blobs[uint32(slotAlternate+k)]
		if !ok {
			continue
		}
		other, err := parseDirectory(blob)
		if err != nil {
			return s, err
		}
		if err := c.compare(other); err != nil {
			return s, err
		}
		if other.hash.Size() > s.hash.Size() {
			s.hash, s.special = other.hash, other.special
		}
	}
	if err := c.compare(directory); err != nil {
		return s, err
	}
	for _, slot := range []int{requirements, entitlements, derEntitled} {
		if blob, ok := blobs[uint32(slot)]; ok && !s.Seals(slot, blob) {
			return s, errors.New("what the program may do is not what was signed")
		}
	}
	if blob := blobs[entitlements]; len(blob) > 8 {
		s.Entitlements = blob[8:]
	}
	message := blobs[slotCMS]
	if len(message) <= 8 {
		// A signature that nobody made is ad hoc, whatever its flags say.
		s.AdHoc = true
		return s, nil
	}
	if binary.BigEndian.Uint32(message) != magicCMS {
		return s, errors.New("the signature is damaged")
	}
	p, err := cms.Parse(message[8:])
	if err != nil {
		return s, err
	}
	p.Content = main
	s.Signer, s.Certificates = p.Signer, p.Certificates
	for _, a := range p.Signers[0].AuthenticatedAttributes {
		if a.Type.Equal(pkcs7.OIDAttributeSigningTime) {
			if _, err := asn1.Unmarshal(a.Value.Bytes, &s.Time); err != nil {
				s.Time = time.Time{}
			}
		}
	}
	if err := p.Check(); err != nil {
		return s, fmt.Errorf("the signature does not hold: %w", err)
	}
	return s, nil
}

// index finds the pieces of a signature by their slots.
func index(super []byte) (map[uint32][]byte, error) {
	damaged := errors.New("the signature is damaged")
	if len(super) < 12 || binary.BigEndian.Uint32(super) != magicSuperBlob {
		return nil, damaged
	}
	length, count := binary.BigEndian.Uint32(super[4:]), binary.BigEndian.Uint32(super[8:])
	if count > maxBlobs || int64(length) > int64(len(super)) || 12+8*int(count) > int(length) {
		return nil, damaged
	}
	super = super[:length]
	blobs := map[uint32][]byte{}
	for k := range int(count) {
		slot, at := binary.BigEndian.Uint32(super[12+8*k:]), binary.BigEndian.Uint32(super[16+8*k:])
		if int64(at)+8 > int64(len(super)) {
			return nil, damaged
		}
		size := binary.BigEndian.Uint32(super[at+4:])
		if size < 8 || int64(at)+int64(size) > int64(len(super)) {
			return nil, damaged
		}
		if _, twice := blobs[slot]; twice {
			return nil, damaged
		}
		blobs[slot] = super[at : at+size]
	}
	return blobs, nil
}

// directory is a CodeDirectory: the digests of the code, page by page, and of what else is sealed.
type directory struct {
	identifier, team string
	flags            uint32
	platform         byte
	hash             crypto.Hash
	length           int // of a digest, as it is kept: some are cut
	limit            int64
	page             int64 // bytes; 0: all of it is one
	pages            []byte
	special          map[int][]byte
}

func parseDirectory(b []byte) (d directory, err error) {
	damaged := errors.New("the signature's list of digests is damaged")
	if len(b) < 44 || binary.BigEndian.Uint32(b) != magicCodeDirectory {
		return d, damaged
	}
	u := func(k int) int64 { return int64(binary.BigEndian.Uint32(b[k:])) }
	version := u(8)
	d.flags = uint32(u(12))
	hashes, identifier, specials, codes := u(16), u(20), u(24), u(28)
	d.limit = u(32)
	d.length, d.platform = int(b[36]), b[38]
	switch b[37] {
	case 1:
		d.hash = crypto.SHA1
	case 2, 3:
		d.hash = crypto.SHA256
	case 4:
		d.hash = crypto.SHA384
	default:
		return d, errors.New("the signature has digests that are not known")
	}
	if version < earliestVersion || d.length == 0 || d.length > d.hash.Size() || b[37] != 3 &&
		d.length != d.hash.Size() || b[37] == 3 && d.length != 20 {
		return d, damaged
	}
	if b[39] != 0 {
		if b[39] > 30 {
			return d, damaged
		}
		d.page = 1 << b[39]
	}
	if version >= versionLimit64 {
		if len(b) < 64 {
			return d, damaged
		}
		if limit := binary.BigEndian.Uint64(b[56:]); limit != 0 {
			if limit > 1<<62 {
				return d, damaged
			}
			d.limit = int64(limit)
		}
	}
	text := func(at int64) string {
		if at <= 0 || at >= int64(len(b)) {
			return ""
		}
		word, _, _ := bytes.Cut(b[at:], []byte{0})
		return string(word)
	}
	d.identifier = text(identifier)
	if version >= versionTeam && len(b) >= 52 {
		d.team = text(u(48))
	}
	n := int64(d.length)
	if specials > 64 || hashes-specials*n < 0 || hashes+codes*n > int64(len(b)) {
		return d, damaged
	}
	d.pages = b[hashes : hashes+codes*n]
	d.special = map[int][]byte{}
	for k := int64(1); k <= specials; k++ {
		d.special[int(k)] = b[hashes-k*n : hashes-(k-1)*n]
	}
	return d, nil
}

// compare holds the code against its digests, page by page.
func (c Code) compare(d directory) error {
	if d.limit > c.signature.at {
		return errors.New("the signature covers itself")
	}
	// What stands between the code and the signature was signed by nobody.
	if c.signature.at-d.limit > 16 {
		return errors.New("the signature does not cover all of the code")
	}
	page := d.page
	if page == 0 {
		page = max(d.limit, 1)
	}
	if wanted := (d.limit + page - 1) / page * int64(d.length); wanted != int64(len(d.pages)) {
		return errors.New("the signature does not cover all of the code")
	}
	h := d.hash.New()
	code := io.NewSectionReader(c.r, 0, d.limit)
	sum := make([]byte, 0, h.Size())
	buffer := make([]byte, min(page, 64<<10))
	for digests := d.pages; len(digests) > 0; digests = digests[d.length:] {
		h.Reset()
		if _, err := io.CopyBuffer(struct{ io.Writer }{h}, io.LimitReader(struct{ io.Reader }{code}, page),
			buffer); err != nil {
			return err
		}
		if sum = h.Sum(sum[:0]); !bytes.Equal(sum[:d.length], digests[:d.length]) {
			return errors.New("the code is not what was signed")
		}
	}
	return nil
}

// Seals reports whether content is what the signature sealed in a slot, [InfoPlist] for example.
func (s Signature) Seals(slot int, content []byte) bool {
	sealed, ok := s.special[slot]
	if !ok {
		return false
	}
	h := s.hash.New()
	h.Write(content)
	return bytes.HasPrefix(h.Sum(nil), sealed)
}

// Sealed reports whether anything is sealed in a slot.
func (s Signature) Sealed(slot int) bool {
	sealed, ok := s.special[slot]
	return ok && !bytes.Equal(sealed, make([]byte, len(sealed)))
}

// apple begins the identifiers of extensions that Apple puts into its certificates, "Certification
// Practice Statement" of its Worldwide Developer Relations and Developer ID authorities.
var apple = asn1.ObjectIdentifier{1, 2, 840, 113635}

// understood takes the extensions off a certificate that are Apple's own: they say what else the
// certificate may be used for.
func understood(c *x509.Certificate) *x509.Certificate {
	if len(c.UnhandledCriticalExtensions) == 0 {
		return c
	}
	same := *c
	same.UnhandledCriticalExtensions = nil
	for _, id := range c.UnhandledCriticalExtensions {
		if len(id) < len(apple) || !id[:len(apple)].Equal(apple) {
			same.UnhandledCriticalExtensions = append(same.UnhandledCriticalExtensions, id)
		}
	}
	return &same
}

// Chain traces the signer to the last of its authorities, at the time that it says it signed at,
// or at now where it says none: macOS takes a signature that was good once. The last one of the
// chain is for the caller to know.
func (s Signature) Chain(now time.Time) ([]*x509.Certificate, error) {
	if s.Signer == nil {
		return nil, errors.New("nobody signed it")
	}
	at := now
	if !s.Time.IsZero() && s.Time.Before(now) {
		at = s.Time
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	for _, c := range s.Certificates {
		if bytes.Equal(c.RawIssuer, c.RawSubject) && c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate,
			c.Signature) == nil {
			roots.AddCert(understood(c))
		} else {
			between.AddCert(understood(c))
		}
	}
	chains, err := understood(s.Signer).Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, CurrentTime: at,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning}})
	if err != nil {
		return nil, err
	}
	return chains[0], nil
}
