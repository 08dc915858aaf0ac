package program

import (
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/authenticode"
	"lockback/core/format/peimage"
	"lockback/core/machine"
	"lockback/core/machine/registry"
)

// windowsPrograms tells what programs of Windows say about themselves, and who signed them.
func windowsPrograms(m *machine.Reader, files []*File) {
	trust := windowsTrust(m)
	sharedOut(files, func(f *File) { f.windowsProgram(trust) })
}

func (f *File) windowsProgram(trust *trust) {
	f.opened(func(content *os.File, size int64) { f.windowsImage(content, size, trust) })
}

func (f *File) windowsImage(file *os.File, size int64, trust *trust) {
	image, err := peimage.Open(file, size)
	switch {
	case errors.Is(err, peimage.ErrNotPE):
		return
	case err != nil:
		f.Evidence = append(f.Evidence, unread("its header", err))
		return
	}
	f.Kind = image.Kind()
	f.Evidence = append(f.Evidence, signatureOf(image, trust)...)
	version, err := image.Version()
	switch {
	case errors.Is(err, peimage.ErrNoVersion):
	case err != nil:
		f.Evidence = append(f.Evidence, unread("its version resource", err))
	default:
		text := version.Strings
		f.Evidence = append(f.Evidence, Evidence{Basis: autostart.ByVersionResource,
			Source: "its version resource, which anybody can write", Maker: text["CompanyName"],
			Product: text["ProductName"], Version: firstOf(text["ProductVersion"], version.Product, version.File),
			Description: text["FileDescription"]})
	}
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

// notChecked is what nobody can find out without a network.
const notChecked = "whether the certificate was withdrawn since; that needs the network"

// signatureOf is what the signatures in a program prove. Of several, the one counts that proves
// most; one that does not hold spoils the others: somebody changed the file.
func signatureOf(image *peimage.Image, trust *trust) []Evidence {
	if !image.Signed() {
		return nil
	}
	messages, err := image.Signatures()
	if err != nil {
		return []Evidence{invalidSignature(err.Error())}
	}
	sums := map[crypto.Hash][]byte{}
	digest := func(kind crypto.Hash) ([]byte, error) {
		if sums[kind] == nil {
			h := kind.New()
			if err := image.Digest(h); err != nil {
				return nil, err
			}
			sums[kind] = h.Sum(nil)
		}
		return sums[kind], nil
	}
	var best *Evidence
	why := "it has none that could be read"
	for _, message := range messages {
		signatures, err := authenticode.Parse(message)
		if err != nil {
			why = err.Error()
			continue
		}
		for k := range signatures {
			e, err := judgeSignature(&signatures[k], digest, trust)
			if err != nil {
				return []Evidence{invalidSignature(err.Error())}
			}
			if best == nil || rank(e.Basis) < rank(best.Basis) {
				best = &e
			}
		}
	}
	if best == nil {
		return []Evidence{invalidSignature(why)}
	}
	return []Evidence{*best}
}

// signedBy is who made a signature that holds, as far as it can be traced.
func signedBy(s *authenticode.Signature, trust *trust) Evidence {
	e := Evidence{Basis: autostart.ByUnanchored, Maker: signerName(s.Signer),
		Notes: []Note{{Kind: autostart.FactSignedBy, Text: certificateName(s.Signer)}}}
	if !s.Time.IsZero() && s.StampErr == nil {
		e.Notes = append(e.Notes, Note{Kind: autostart.FactSignedAt, Text: s.Time.UTC().Format(time.RFC3339) +
			", by the time stamp of " + certificateName(s.Stamper)})
	}
	if s.StampErr != nil {
		e.Notes = append(e.Notes, Note{Name: "time stamp", Text: s.StampErr.Error()})
	}
	root, err := s.Anchored(trust.roots, trust.now)
	if err != nil {
		e.Notes = append(e.Notes, Note{Name: "not traced", Text: "its signer is nobody that this computer knows: " +
			err.Error()})
		return e
	}
	e.Basis = autostart.BySignature
	known := trust.known(root)
	if known == "" {
		known = "known to this computer's own store only"
	}
	e.Notes = append(e.Notes, Note{Name: "traced to", Text: certificateName(root) + ", " + known},
		Note{Name: "not checked", Text: notChecked})
	e.System = trust.system(s.Signer, root)
	e.Foreign = trust.known(root) == ""
	return e
}

// signerName is whom a certificate is for: the organisation, else its name.
func signerName(c *x509.Certificate) string {
	if len(c.Subject.Organization) > 0 && c.Subject.Organization[0] != "" {
		return c.Subject.Organization[0]
	}
	return c.Subject.CommonName
}

func certificateName(c *x509.Certificate) string {
	if c == nil {
		return "nobody"
	}
	if c.Subject.CommonName != "" {
		return autostart.Text(c.Subject.CommonName)
	}
	return autostart.Text(fmt.Sprint(c.Subject))
}

// windowsNames are the names in the certificates by which Microsoft signs the parts of Windows,
// and nothing else: programs of other makers that it tested have another.
var windowsNames = []string{"Microsoft Windows", "Microsoft Windows Publisher"}

// trust is whom a machine believes.
type trust struct {
	roots []*x509.Certificate
	now   time.Time
}

// rootStores are the stores of roots: what came with Windows or was added, and what Windows fetched.
var rootStores = []string{"ROOT", "AuthRoot"}

func certificatesIn(m *machine.Reader, store string) []*registry.Key {
	key, err := m.Key(`HKLM\SOFTWARE\Microsoft\SystemCertificates\` + store + `\Certificates`)
	if err != nil {
		return nil
	}
	keys, _ := key.Subkeys()
	return keys
}

// storeState tells one state of the stores from others: each certificate is named by its digest.
func storeState(m *machine.Reader) string {
	h := sha256.New()
	for _, store := range rootStores {
		for _, k := range certificatesIn(m, store) {
			io.WriteString(h, k.Name()+"\n")
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// windowsTrust reads the machine's own store of roots.
func windowsTrust(m *machine.Reader) *trust {
	t := &trust{now: time.Now()}
	for _, store := range rootStores {
		for _, k := range certificatesIn(m, store) {
			v, err := k.Value("Blob")
			if err != nil {
				continue
			}
			if c, err := authenticode.StoredCertificate(v.Data); err == nil && len(t.roots) < maxRoots {
				t.roots = append(t.roots, c)
			}
		}
	}
	return t
}

// maxRoots is how many certificates of a store are read: Windows has some hundred.
const maxRoots = 2000

// systemRoots are the roots that sign the parts of Windows, by the SHA-256 of the certificate.
// Where each fingerprint was read stands beside it.
// The first was read in the signature of a public program of 2026; the others are known from
// their maker, and were not seen on a disk here: where they were wrong, the parts of Windows would
// be known by name and place, as without them.
var systemRoots = map[string]string{
	"5367f20c7ade0e2bca790915056d086b720c33c1fa2a2661acf787e3292e1270": "Microsoft Identity Verification Root " +
		"Certificate Authority 2020",
	"847df6a78497943f27fc72eb93f9a637320a02b561d0a91b09e87a7807ed7c61": "Microsoft Root Certificate Authority 2011",
	"df545bf919a2439c36983b54cdfc903dfa4f37d3996d8d84b4c31eec6f3c163e": "Microsoft Root Certificate Authority 2010",
}

func (t *trust) known(root *x509.Certificate) string { return systemRoots[fingerprint(root)] }

// system reports whether a signer signs parts of the system: by name, and by a root that only the
// system's maker has.
func (t *trust) system(signer, root *x509.Certificate) bool {
	if t.known(root) == "" {
		return false
	}
	for _, name := range windowsNames {
		if strings.EqualFold(signer.Subject.CommonName, name) {
			return true
		}
	}
	return false
}
