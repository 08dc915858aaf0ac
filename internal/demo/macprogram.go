package demo

import (
	"crypto/sha256"
	"encoding/binary"
	"strings"
)

// macProgram is a Mach-O program for Apple silicon, which does nothing, signed by a maker; by
// nobody where who is nil. It seals what stands in the slots beside the code.
func macProgram(identifier string, who *signer, team string, seals map[int][]byte) []byte {
	const (
		page      = 4096
		runtime   = 0x10000
		adHoc     = 0x2
		codeSize  = 0x1000
		hashSize  = sha256.Size
		fixedPart = 88 // of a directory of version 0x20400
	)
	be, le := binary.BigEndian, binary.LittleEndian
	specials := 0
	for slot := range seals {
		specials = max(specials, slot)
	}
	names := identifier + "\x00"
	flags := uint32(adHoc)
	if who != nil {
		names, flags = names+team+"\x00", runtime
	}
	hashes := fixedPart + len(names) + specials*hashSize
	directory := make([]byte, hashes+codeSize/page*hashSize)
	for at, v := range map[int]uint32{0: 0xfade0c02, 4: uint32(len(directory)), 8: 0x20400, 12: flags,
		16: uint32(hashes), 20: fixedPart, 24: uint32(specials), 28: codeSize / page, 32: codeSize} {
		be.PutUint32(directory[at:], v)
	}
	directory[36], directory[37], directory[39] = hashSize, 2, 12
	if who != nil {
		be.PutUint32(directory[48:], uint32(fixedPart+len(identifier)+1))
	}
	copy(directory[fixedPart:], names)
	for slot, content := range seals {
		sum := sha256.Sum256(content)
		copy(directory[hashes-slot*hashSize:], sum[:])
	}
	// The code itself, whose header says where the signature is and how long it may be.
	const room = 0x2000
	code := make([]byte, codeSize)
	for k, v := range []uint32{0xfeedfacf, 0x0100000c, 0, 2, 1, 16, 0x85, 0, 0x1d, 16, codeSize, room} {
		le.PutUint32(code[4*k:], v)
	}
	copy(code[64:], "made up for the Gullrock Lighthouse Museum: "+identifier)
	sum := sha256.Sum256(code)
	copy(directory[hashes:], sum[:])

	blobs := []struct {
		slot uint32
		text []byte
	}{{0, directory}}
	if who != nil {
		message, err := who.message(idData, directory, false)
		if err != nil {
			panic(err) // nothing in it comes from outside
		}
		wrapped := be.AppendUint32(nil, 0xfade0b01)
		wrapped = be.AppendUint32(wrapped, uint32(8+len(message)))
		blobs = append(blobs, struct {
			slot uint32
			text []byte
		}{0x10000, append(wrapped, message...)})
	}
	super := make([]byte, 12+8*len(blobs))
	for k, b := range blobs {
		be.PutUint32(super[12+8*k:], b.slot)
		be.PutUint32(super[16+8*k:], uint32(len(super)))
		super = append(super, b.text...)
	}
	be.PutUint32(super, 0xfade0cc0)
	be.PutUint32(super[4:], uint32(len(super)))
	be.PutUint32(super[8:], uint32(len(blobs)))
	return append(append(code, super...), make([]byte, room-len(super))...)
}

// macMakers are whose the programs of the archive Mac are, by a part of their path.
var macMakers = []struct {
	part, maker, team string
	by                signing
}{
	{"/Fogbell", "Fogbell Works", "FOGBELL001", byMuseum},
	{"/Gullrock", "Gullrock Lighthouse Museum", "GULLROCK18", byMuseum},
	{"/Kelpline", "Kelpline Software", "KELP1NE000", byMuseum},
	{"/kelpline", "Kelpline Software", "KELP1NE000", byMuseum},
	{"/Saltmarsh", "Saltmarsh Ledgers", "SALT000000", byItself},
	{"/tidewatch", "Tidewatch Instruments", "", byNobody},
	{"/Gannetry", "Gannetry", "GANNET0051", byMuseum},
	{"/Skerrywell", "Skerrywell", "SKERRY0124", byMuseum},
	{"/Marramgate", "Marramgate", "MARRAM0238", byMuseum},
	{"/Limpetware", "Limpetware Games", "LIMPET0290", byMuseum},
}

// macMaker finds who signs a program of the archive Mac.
func macMaker(path string) (who *signer, team string) {
	for _, m := range macMakers {
		if !strings.Contains(path, m.part) || m.by == byNobody {
			continue
		}
		s := signerFor(m.maker)
		if m.by == byItself {
			s = selfSigner(m.maker)
		}
		return &s, m.team
	}
	return nil, ""
}
