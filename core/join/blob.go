package join

import (
	"encoding/base64"

	"github.com/google/uuid"
)

// Numbers of the structures of an offline join.
const (
	provisionVersion = 1 // ODJ_PROVISION_DATA
	formatWin7       = 1 // ODJ_WIN7BLOB, which every version reads
	formatWin8       = 2 // OP_PACKAGE
	essential        = 1 // OPSPI_PACKAGE_PART_ESSENTIAL
	createAccount    = 2 // NETSETUP_ACCT_CREATE
	deleteAccount    = 4 // NETSETUP_ACCT_DELETE

	inetAddress = 1 // DS_INET_ADDRESS
	// controllerFlags say of a domain controller that it has LDAP, the directory, Kerberos and
	// a writable copy, and that its names and those of the domain and the forest are DNS names
	// (DOMAIN_CONTROLLER_INFO).
	controllerFlags = 0x8 | 0x10 | 0x20 | 0x100 | 0x20000000 | 0x40000000 | 0x80000000
)

// Kinds of parts of an OP_PACKAGE.
var (
	joinProvider  = uuid.MustParse("631c7621-5289-4321-bc9e-80f843f868c3") // an ODJ_WIN7BLOB
	joinProvider3 = uuid.MustParse("fc0ccf25-7ffa-474a-8611-69ffe269645f") // an OP_JOINPROV3_PART
)

// Blob is what Windows joins its domain by without asking anybody: ODJ_PROVISION_DATA as the
// platform's documentation of offline domain join has it, in base64. It says the same twice: in
// an ODJ_WIN7BLOB, and in an OP_PACKAGE for newer versions. It holds the computer's password in
// clear.
func (m *Member) Blob() string {
	win7 := serialized(m.win7)
	win8 := serialized(func(n *ndr) { // OP_PACKAGE, neither encrypted nor extended
		n.guid(uuid.Nil)
		n.blob(nil)
		n.blob(m.parts(win7))
		n.u32(0)
		n.blob(nil)
	})
	return base64.StdEncoding.EncodeToString(serialized(func(n *ndr) {
		n.u32(provisionVersion)
		n.u32(2)
		n.pointer(true, func() {
			n.u32(2)
			n.u32(formatWin7)
			n.blob(win7)
			n.u32(formatWin8)
			n.blob(win8)
		})
	}))
}

// parts are an OP_PACKAGE_PART_COLLECTION.
func (m *Member) parts(win7 []byte) []byte {
	account := serialized(func(n *ndr) { // OP_JOINPROV3_PART
		n.u32(m.SID.relative())
		n.text(m.SID.String())
	})
	return serialized(func(n *ndr) {
		n.u32(2)
		n.pointer(true, func() {
			n.u32(2)
			n.guid(joinProvider)
			n.u32(essential)
			n.blob(win7)
			n.blob(nil)
			n.guid(joinProvider3)
			n.u32(0)
			n.blob(account)
			n.blob(nil)
		})
		n.blob(nil)
	})
}

// win7 is an ODJ_WIN7BLOB.
func (m *Member) win7(n *ndr) {
	d := &m.Domain
	n.text(d.DNS)
	n.text(m.Name)
	n.text(m.Password)
	// ODJ_POLICY_DNS_DOMAIN_INFO (MS-LSAD, 2.2.4.14)
	n.counted(d.Short, 1)
	n.counted(d.DNS, 1)
	n.counted(d.Forest, 1)
	n.guid(d.GUID)
	n.sid(d.SID)
	// DOMAIN_CONTROLLER_INFO (MS-NRPC, 2.2.1.2.1)
	n.text(`\\` + d.Controller)
	n.text(`\\` + d.Address.String())
	n.u32(inetAddress)
	n.guid(d.GUID)
	n.text(d.DNS)
	n.text(d.Forest)
	n.u32(controllerFlags)
	n.text(d.Site)
	n.text(d.Site)
	n.u32(createAccount | deleteAccount)
}
