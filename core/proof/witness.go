package proof

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Request is what a witness is asked to countersign (C2SP tlog-witness, add-checkpoint): a signed head, and
// the proof that it has grown out of the head of Old leaves, which the witness has seen last.
type Request struct {
	Old  int64
	Path []Hash
	Head string
}

// Marshal is the body of a request.
func (r Request) Marshal() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "old %d\n", r.Old)
	for _, h := range r.Path {
		fmt.Fprintln(&b, base64.StdEncoding.EncodeToString(h[:]))
	}
	fmt.Fprintf(&b, "\n%s", r.Head)
	return b.Bytes()
}

// ErrRequest says that a request cannot be read.
var ErrRequest = errors.New("not a request to a witness")

// ParseRequest reads the body of a request.
func ParseRequest(body []byte) (r Request, err error) {
	top, head, found := strings.Cut(string(body), "\n\n")
	if !found || len(body) > 2*longest {
		return r, ErrRequest
	}
	r.Head = head
	lines := strings.Split(top, "\n")
	number, is := strings.CutPrefix(lines[0], "old ")
	if r.Old, err = strconv.ParseInt(number, 10, 64); err != nil || !is || r.Old < 0 || strconv.FormatInt(r.Old, 10) != number || len(lines) > 1+atMost {
		return r, ErrRequest
	}
	for _, line := range lines[1:] {
		h, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(h) != len(Hash{}) {
			return r, ErrRequest
		}
		r.Path = append(r.Path, Hash(h))
	}
	return r, nil
}

// ErrBehind says that a request does not begin at what the witness has seen last, or shows another tree of
// the same size.
var ErrBehind = errors.New("the witness has seen another head")

// Take decides about a request: the head that the witness has seen from then on. last is what it has seen of
// the log before; the zero Head if nothing. Errors wrap ErrSignature, ErrBehind or ErrProof.
func Take(last Head, r Request, verifier string) (Head, error) {
	now, err := Open(r.Head, verifier)
	switch {
	case err != nil:
		return Head{}, err
	case r.Old > now.Size:
		return Head{}, ErrRequest
	case r.Old != last.Size:
		return Head{}, ErrBehind
	case last.Size == 0:
		return now, nil
	case last.Size == now.Size && last.Root != now.Root:
		return Head{}, ErrBehind
	}
	return now, HasGrown(r.Path, last, now)
}

// Restored is what a leaf says that states a restore from a backup: the tree that was lost, by its last signed
// head, who has restored, and why.
type Restored struct {
	Operation string `json:"operation"`
	Who       string `json:"who"`
	Details   struct {
		OldHead string `json:"old_head"`
		Why     string `json:"why"`
	} `json:"details"`
}

// RestoreOperation is what such a leaf says was done.
const RestoreOperation = "restore-log"

// TakeRestore decides about the statement that a tree was restored from a backup, which is the proof that a
// leaf which says so is in the tree that goes on. The statement has to be about the head that the witness has
// seen last, so that it counts once. Errors are those of Verify, and ErrBehind.
func TakeRestore(last Head, statement, verifier string) (Head, Restored, error) {
	var r Restored
	leaf, now, err := Verify(statement, verifier)
	if err != nil {
		return Head{}, r, err
	}
	if err := json.Unmarshal(leaf, &r); err != nil || r.Operation != RestoreOperation || strings.TrimSpace(r.Details.Why) == "" {
		return Head{}, r, fmt.Errorf("%w: the leaf does not say that anything was restored", ErrProof)
	}
	lost, err := Open(r.Details.OldHead, verifier)
	if err != nil {
		return Head{}, r, err
	}
	if lost != last {
		return Head{}, r, ErrBehind
	}
	return now, r, nil
}
