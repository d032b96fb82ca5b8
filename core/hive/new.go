package hive

import "encoding/binary"

// New is an empty hive with a root of that name.
func New(name string) (*Hive, error) {
	b := make([]byte, baseSize+binGranularity)
	copy(b, "regf")
	le := binary.LittleEndian
	le.PutUint32(b[atSequence1:], 1)
	le.PutUint32(b[atSequence2:], 1)
	le.PutUint32(b[atMajor:], 1)
	le.PutUint32(b[atMinor:], 5)
	le.PutUint32(b[32:], 1) // as it is in memory
	le.PutUint32(b[44:], 1) // sectors that are written at once
	le.PutUint32(b[atBinsSize:], binGranularity)
	bin := b[baseSize:]
	copy(bin, "hbin")
	le.PutUint32(bin[8:], binGranularity)
	le.PutUint32(bin[binHeaderSize:], binGranularity-binHeaderSize) // one free cell
	h := &Hive{all: b, head: b[:baseSize], bins: binGranularity}
	security, err := h.allot(securitySize + len(trusted))
	if err != nil {
		return nil, err
	}
	s, _ := h.cell(security, securitySize)
	copy(s, "sk")
	le.PutUint32(s[4:], security) // it is alone in its ring
	le.PutUint32(s[8:], security)
	le.PutUint32(s[16:], uint32(len(trusted)))
	copy(s[securitySize:], trusted)
	root, err := h.newKey(name, none, security)
	if err != nil {
		return nil, err
	}
	k, _ := h.cell(root, keyName)
	le.PutUint16(k[keyFlags:], le.Uint16(k[keyFlags:])|flagRoot)
	le.PutUint32(b[atRoot:], root)
	le.PutUint32(b[atChecksum:], checksum(b))
	return h, nil
}

const (
	securitySize  = 20
	securityUsers = 12 // how many keys have it
)

// trusted is a security descriptor that lets the system and administrators do everything
// (MS-DTYP, 2.4.6: self-relative, with a discretionary list).
var trusted = func() []byte {
	admins := []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0} // S-1-5-32-544
	system := []byte{1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0}                // S-1-5-18
	var list []byte
	for _, sid := range [][]byte{system, admins} {
		// allowed, for keys below as well, all rights of a key
		list = append(list, 0, 2, byte(8+len(sid)), 0, 0x3f, 0, 0x0f, 0)
		list = append(list, sid...)
	}
	b := []byte{1, 0, 4, 0x80} // version 1; it has a list, and is self-relative
	owner := 20 + 8 + len(list)
	for _, at := range []int{owner, owner, 0, 20} {
		b = binary.LittleEndian.AppendUint32(b, uint32(at))
	}
	b = append(b, 2, 0, byte(8+len(list)), 0, 2, 0, 0, 0)
	return append(append(b, list...), admins...)
}()
