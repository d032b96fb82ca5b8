package driver

import (
	"cmp"
	"fmt"

	"github.com/smallstep/pkcs7"
)

const maxCatalogue = 32 << 20 // bytes

// signerOf tells who signed a catalogue: a PKCS#7 message (RFC 2315) whose content is
// the list of the files' digests. The signature is checked against the certificate
// that comes along; whether a workstation trusts that one, only it can tell.
func signerOf(b []byte) (signer string, err error) {
	defer func() {
		if p := recover(); p != nil {
			signer, err = "", fmt.Errorf("damaged: %v", p)
		}
	}()
	message, err := pkcs7.Parse(b)
	if err != nil {
		return "", fmt.Errorf("no catalogue: %v", err)
	}
	if err := message.Verify(); err != nil {
		if len(message.Signers) == 0 {
			err = errNoSigner
		}
		return "", err
	}
	who := message.GetOnlySigner()
	if who == nil {
		return "", errNoSigner
	}
	return cmp.Or(who.Subject.CommonName, who.Subject.String()), nil
}
