package demo

import (
	"bytes"
	"encoding/asn1"
	"encoding/binary"
	"unicode/utf16"

	"lockback/core/format/peimage"
	"lockback/core/format/regf"
)

// windowsProgram is a program of the ticket-desk PC: a whole one, which does nothing.
type windowsProgram struct {
	maker, product, version, description string
	driver                               bool
}

// image is the program's file, with its version resource where it names anybody.
func (p windowsProgram) image() []byte {
	const (
		headers  = 0x200 // where the sections begin
		code     = 0x200 // bytes of the section of code
		resource = 0x2000
	)
	var resources []byte
	if p.maker != "" {
		resources = versionResource(resource, p)
	}
	align := func(n int) uint32 { return uint32((n + 0x1ff) &^ 0x1ff) }
	var b bytes.Buffer
	put := func(values ...any) {
		for _, v := range values {
			binary.Write(&b, binary.LittleEndian, v)
		}
	}
	dos := make([]byte, 64)
	copy(dos, "MZ")
	dos[60] = 64
	b.Write(dos)
	b.WriteString("PE\x00\x00")
	sections := uint16(1)
	if resources != nil {
		sections = 2
	}
	put(uint16(0x8664), sections, uint32(asFound.Unix()), uint32(0), uint32(0), uint16(240), uint16(0x22))
	subsystem := uint16(2)
	if p.driver {
		subsystem = 1
	}
	put(uint16(0x20b), uint16(0), uint32(code), align(len(resources)), uint32(0), uint32(0x1000), uint32(0x1000),
		uint64(0x140000000), uint32(0x1000), uint32(0x200),
		uint16(6), uint16(0), uint16(0), uint16(0), uint16(6), uint16(0), uint32(0), uint32(0x3000), uint32(headers),
		uint32(0), subsystem, uint16(0x8160),
		uint64(0x100000), uint64(0x1000), uint64(0x100000), uint64(0x1000), uint32(0), uint32(16))
	directories := make([]uint32, 32)
	if resources != nil {
		directories[4], directories[5] = resource, uint32(len(resources))
	}
	put(directories)
	section := func(name string, address, length, at, size, flags uint32) {
		n := make([]byte, 8)
		copy(n, name)
		b.Write(n)
		put(length, address, size, at, uint32(0), uint32(0), uint32(0), flags)
	}
	section(".text", 0x1000, 16, headers, code, 0x60000020)
	if resources != nil {
		section(".rsrc", resource, uint32(len(resources)), headers+code, align(len(resources)), 0x40000040)
	}
	b.Write(make([]byte, headers-b.Len()))
	text := make([]byte, code)
	copy(text, "\x31\xc0\xc3made up for the Gullrock Lighthouse Museum: "+p.product+" "+p.description)
	b.Write(text)
	b.Write(resources)
	if rest := b.Len() % 0x200; rest != 0 {
		b.Write(make([]byte, 0x200-rest))
	}
	return b.Bytes()
}

// versionResource is a section of resources at an address, with a version resource in it.
func versionResource(address uint32, p windowsProgram) []byte {
	version := versionBlock("VS_VERSION_INFO", fixedVersion(), false,
		versionBlock("StringFileInfo", nil, true, versionBlock("040904B0", nil, true,
			versionText("CompanyName", p.maker), versionText("FileDescription", p.description),
			versionText("ProductName", p.product), versionText("ProductVersion", p.version))))
	var b bytes.Buffer
	put := func(values ...uint32) { binary.Write(&b, binary.LittleEndian, values) }
	// Type, name and language: each a directory of one entry, the next behind it.
	for k, id := range []uint32{16, 1, 0x409} {
		put(0, 0, 0, 1<<16, id)
		next := uint32(24 * (k + 1))
		if k < 2 {
			next |= 0x80000000
		}
		put(next)
	}
	put(address+88, uint32(len(version)), 0, 0)
	b.Write(version)
	return b.Bytes()
}

func fixedVersion() []byte {
	b := make([]byte, 52)
	binary.LittleEndian.PutUint32(b, 0xfeef04bd)
	binary.LittleEndian.PutUint32(b[4:], 0x10000)
	return b
}

func versionText(key, text string) []byte { return versionBlock(key, wideZero(text), true) }

func wideZero(text string) []byte {
	var b []byte
	for _, u := range append(utf16.Encode([]rune(text)), 0) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

func versionBlock(key string, value []byte, text bool, children ...[]byte) []byte {
	b := make([]byte, 6)
	b = append(b, wideZero(key)...)
	fill := func() {
		for len(b)%4 != 0 {
			b = append(b, 0)
		}
	}
	fill()
	b = append(b, value...)
	for _, c := range children {
		fill()
		b = append(b, c...)
	}
	length := len(value)
	if text {
		length /= 2
		binary.LittleEndian.PutUint16(b[4:], 1)
	}
	binary.LittleEndian.PutUint16(b, uint16(len(b)))
	binary.LittleEndian.PutUint16(b[2:], uint16(length))
	return b
}

// signed adds a signature to an image.
func (s signer) signed(image []byte) ([]byte, error) {
	opened, err := peimage.Open(bytes.NewReader(image), int64(len(image)))
	if err != nil {
		return nil, err
	}
	h := signedHash.New()
	if err := opened.Digest(h); err != nil {
		return nil, err
	}
	message, err := s.authenticode(h.Sum(nil))
	if err != nil {
		return nil, err
	}
	for len(message)%8 != 0 {
		message = append(message, 0)
	}
	const directory = 64 + 24 + 112 + 8*4
	binary.LittleEndian.PutUint32(image[directory:], uint32(len(image)))
	binary.LittleEndian.PutUint32(image[directory+4:], uint32(len(message)+8))
	image = binary.LittleEndian.AppendUint32(image, uint32(len(message)+8))
	image = binary.LittleEndian.AppendUint16(image, 0x200)
	image = binary.LittleEndian.AppendUint16(image, 2)
	return append(image, message...), nil
}

// idCatalogue is that of a list of files.
var idCatalogue = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 10, 1}

// catalogue is a signed list of images.
func (s signer) catalogue(images ...[]byte) ([]byte, error) {
	var subjects [][]byte
	for _, image := range images {
		opened, err := peimage.Open(bytes.NewReader(image), int64(len(image)))
		if err != nil {
			return nil, err
		}
		h := signedHash.New()
		if err := opened.Digest(h); err != nil {
			return nil, err
		}
		sum := h.Sum(nil)
		data := sequenceOf(imageData(), sequenceOf(der(algorithm{ID: idSHA256, Parameters: asn1.NullRawValue}),
			der(sum)))
		attribute := sequenceOf(der(idIndirectData), der(tagged(asn1.ClassUniversal, asn1.TagSet, data)))
		subjects = append(subjects, sequenceOf(der(sum), der(tagged(asn1.ClassUniversal, asn1.TagSet, attribute))))
	}
	usage := sequenceOf(der(asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 12, 1, 1}))
	kind := sequenceOf(der(asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 12, 1, 3}), der(asn1.NullRawValue))
	content := sequenceOf(usage, der([]byte("Gullrock catalogue")), der(made), kind, sequenceOf(subjects...))
	return s.message(idCatalogue, content, true)
}

// WindowsProgram is a program of Windows that does nothing, signed under a name by the authority that the made-up
// machines believe, see [TrustedRoot]; not signed where the name is empty.
func WindowsProgram(signer, description string, driver bool) []byte {
	image := windowsProgram{maker: "Gullrock Lighthouse Museum", product: "Sample", version: "1",
		description: description, driver: driver}.image()
	if signer == "" {
		return image
	}
	return byMuseum.sign(signer, image)
}

// TrustedRoot is the certificate that the made-up machines believe, as the registry below SOFTWARE holds it: a key, and
// its value.
func TrustedRoot() (key string, value regf.Value) {
	return `Microsoft\SystemCertificates\ROOT\Certificates\` + thumbprint(museumRoot()), stored(museumRoot())
}
