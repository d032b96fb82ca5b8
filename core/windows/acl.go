package windows

import (
	"bytes"
	"encoding/binary"
	"errors"
)

// Security descriptors say who may do what with a file. Their layout is that of MS-DTYP: 2.4.6 the
// descriptor, 2.4.5 its list, 2.4.4 the entries, 2.4.2 those who are named.

// ErrDescriptor says that bytes are not a security descriptor.
var ErrDescriptor = errors.New("this is not a security descriptor")

// Flags of an entry (2.4.4.1).
const (
	ontoFiles   = 0x01
	ontoFolders = 0x02
	notFurther  = 0x04
	onlyBelow   = 0x08 // it says nothing of the folder itself
	fromAbove   = 0x10
)

// Control bits of a descriptor.
const (
	hasList       = 0x0004
	listFromAbove = 0x0400
	selfRelative  = 0x8000
)

const (
	descriptorSize = 20
	listHead       = 8
	entryHead      = 8
	allRights      = 0x001f01ff // of a file
	maxDescriptor  = 0xffff
)

// generic are the general rights with those of files that they stand for (2.4.3).
var generic = []struct{ general, file uint32 }{{1 << 31, 0x00120089}, {1 << 30, 0x00120116}, {1 << 29, 0x001200a0}, {1 << 28, allRights}}

// Those who are named everywhere (2.4.2.4).
var (
	administrators = []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0}
	localSystem    = []byte{1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0}
	creatorOwner   = []byte{1, 1, 0, 0, 0, 0, 0, 3, 0, 0, 0, 0}
	creatorGroup   = []byte{1, 1, 0, 0, 0, 0, 0, 3, 1, 0, 0, 0}
)

// entry is an entry of a list.
type entry struct {
	kind, flags byte
	rights      uint32
	who         []byte
}

// Private is the descriptor of a file that is for the system and administrators alone.
func Private() []byte { return descriptor(hasList, private()) }

func private() []entry {
	return []entry{{0, 0, allRights, localSystem}, {0, 0, allRights, administrators}}
}

// Inherited is the descriptor of a new file or folder in a folder that has parent's, as MS-DTYP
// 2.5.3.4 has it. It belongs to administrators. Where nothing comes from above, it is Private. Errors
// wrap ErrDescriptor.
func Inherited(parent []byte, folder bool) ([]byte, error) {
	all, err := entries(parent)
	if err != nil {
		return nil, err
	}
	var own []entry
	for _, e := range all {
		if e.kind > 1 {
			continue // neither allowed nor denied
		}
		own = append(own, e.inherited(folder)...)
	}
	if own == nil {
		own = private()
	}
	b := descriptor(hasList|listFromAbove, own)
	if len(b) > maxDescriptor {
		return nil, ErrDescriptor
	}
	return b, nil
}

// inherited is what becomes of a folder's entry in a new file or folder in there.
func (e entry) inherited(folder bool) (own []entry) {
	onward := e.flags&(ontoFiles|ontoFolders) | fromAbove
	here := entry{e.kind, fromAbove, specific(e.rights), e.who}
	switch {
	case bytes.Equal(e.who, creatorOwner), bytes.Equal(e.who, creatorGroup):
		here.who = administrators
	}
	same := here.rights == e.rights && bytes.Equal(here.who, e.who)
	switch {
	case !folder && e.flags&ontoFiles != 0, folder && e.flags&ontoFolders != 0 && e.flags&notFurther != 0:
		return []entry{here}
	case !folder || e.flags&(ontoFiles|ontoFolders) == 0 || e.flags&notFurther != 0:
		return nil
	case e.flags&ontoFolders == 0:
		return []entry{{e.kind, onward | onlyBelow, e.rights, e.who}}
	case same:
		return []entry{{e.kind, onward, e.rights, e.who}}
	}
	return []entry{here, {e.kind, onward | onlyBelow, e.rights, e.who}}
}

// specific puts the rights of files into the place of general ones.
func specific(rights uint32) uint32 {
	out := rights &^ (0xf << 28)
	for _, g := range generic {
		if rights&g.general != 0 {
			out |= g.file
		}
	}
	return out
}

// entries reads the list of a descriptor.
func entries(b []byte) (all []entry, err error) {
	le := binary.LittleEndian
	if len(b) < descriptorSize || b[0] != 1 || le.Uint16(b[2:])&selfRelative == 0 {
		return nil, ErrDescriptor
	}
	at := int64(le.Uint32(b[16:]))
	if le.Uint16(b[2:])&hasList == 0 || at == 0 {
		return nil, nil
	}
	if at+listHead > int64(len(b)) {
		return nil, ErrDescriptor
	}
	list := b[at:]
	count, left := int(le.Uint16(list[4:])), list[listHead:]
	for range count {
		if len(left) < entryHead {
			return nil, ErrDescriptor
		}
		size := int(le.Uint16(left[2:]))
		if size < entryHead || size > len(left) {
			return nil, ErrDescriptor
		}
		e := entry{left[0], left[1], le.Uint32(left[4:]), left[entryHead:size]}
		if e.kind <= 1 && (len(e.who) < 8 || len(e.who) < 8+4*int(e.who[1])) {
			return nil, ErrDescriptor
		}
		all, left = append(all, e), left[size:]
	}
	return all, nil
}

// descriptor writes one that belongs to administrators.
func descriptor(control uint16, all []entry) []byte {
	le := binary.LittleEndian
	var list []byte
	for _, e := range all {
		list = append(list, e.kind, e.flags)
		list = le.AppendUint16(list, uint16(entryHead+len(e.who)))
		list = append(le.AppendUint32(list, e.rights), e.who...)
	}
	b := le.AppendUint16([]byte{1, 0}, control|selfRelative)
	group := descriptorSize + len(administrators)
	for _, at := range []int{descriptorSize, group, 0, group + len(administrators)} {
		b = le.AppendUint32(b, uint32(at))
	}
	b = append(append(b, administrators...), administrators...)
	b = le.AppendUint16(append(b, 2, 0), uint16(listHead+len(list)))
	b = le.AppendUint16(b, uint16(len(all)))
	return append(append(b, 0, 0), list...)
}
