package netboot

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"time"
)

// Opcodes of TFTP (RFC 1350, 5; RFC 2347).
const (
	opRead  = 1
	opWrite = 2
	opData  = 3
	opAck   = 4
	opError = 5
	opOack  = 6
)

// Error codes of TFTP (RFC 1350, appendix; RFC 2347).
const (
	tftpUndefined  = 0
	tftpNotFound   = 1
	tftpDenied     = 2
	tftpIllegal    = 4
	tftpUnknownID  = 5
	tftpBadOptions = 8
)

const (
	defaultBlock = 512
	// maxBlock keeps a packet whole on Ethernet, with some room for tunnels.
	maxBlock  = 1428
	maxWindow = 64
	// maxName bounds a file's name, and maxRequest a whole request.
	maxName    = 255
	maxRequest = 1024
	// resends is how often a window is sent again before the transfer is given up. The
	// pause before each doubles (RFC 1123, 4.2.3.3), up to longestPause: a minute and a
	// half in all.
	resends      = 8
	longestPause = 16 * time.Second
	// maxText is the largest file that is sent as text, in bytes.
	maxText = 4 << 20
)

// ErrTFTP says that a packet is not a request.
var ErrTFTP = errors.New("not a TFTP request")

// TFTPRequest is a request to read a file.
type TFTPRequest struct {
	File    string        // cleaned: no leading slash, no way out of the root
	Block   int           // bytes of a block: RFC 2348
	Window  int           // blocks sent before an acknowledgement: RFC 7440
	Timeout time.Duration // before the first resend
	Text    bool          // in mode netascii
	options []string      // names of those that are answered, in order
}

// TFTPError is the packet for an error.
type TFTPError struct {
	Code uint16
	Text string
}

func (e *TFTPError) Error() string { return e.Text }

// Packet is the error as it goes onto the wire.
func (e *TFTPError) Packet() []byte {
	b := binary.BigEndian.AppendUint16(nil, opError)
	b = binary.BigEndian.AppendUint16(b, e.Code)
	return append(append(b, e.Text...), 0)
}

// UnknownTransfer is the answer to a packet from a port that no transfer is with (RFC
// 1350, 4).
func UnknownTransfer() *TFTPError {
	return &TFTPError{tftpUnknownID, "this port is not part of any transfer"}
}

// NotFound is the answer for a file that is not there.
func NotFound(why string) *TFTPError { return &TFTPError{tftpNotFound, why} }

// ParseTFTP reads a request. Errors wrap ErrTFTP, where nothing should be answered,
// or are a *TFTPError.
func ParseTFTP(b []byte) (*TFTPRequest, error) {
	if len(b) < 4 || len(b) > maxRequest || b[len(b)-1] != 0 {
		return nil, ErrTFTP
	}
	switch op := binary.BigEndian.Uint16(b); op {
	case opRead:
	case opWrite:
		return nil, &TFTPError{tftpDenied, "this server is for reading only"}
	default:
		return nil, ErrTFTP
	}
	fields := strings.Split(string(b[2:len(b)-1]), "\x00")
	if len(fields) < 2 {
		return nil, ErrTFTP
	}
	mode := strings.ToLower(fields[1])
	if mode != "octet" && mode != "netascii" {
		return nil, &TFTPError{tftpIllegal, fmt.Sprintf("mode %.20q is not known", mode)}
	}
	name, err := cleanName(fields[0])
	if err != nil {
		return nil, err
	}
	r := &TFTPRequest{File: name, Block: defaultBlock, Window: 1, Timeout: time.Second, Text: mode == "netascii"}
	for o := fields[2:]; len(o) >= 2; o = o[2:] {
		r.option(strings.ToLower(o[0]), o[1])
	}
	return r, nil
}

// cleanName makes a file's name relative to the root. Some loaders write backslashes.
func cleanName(name string) (string, error) {
	if len(name) > maxName {
		return "", &TFTPError{tftpIllegal, "the file's name is too long"}
	}
	for _, c := range []byte(name) {
		if c < ' ' || c > '~' {
			return "", &TFTPError{tftpIllegal, "the file's name has odd characters"}
		}
	}
	name = strings.ReplaceAll(name, `\`, "/")
	for part := range strings.SplitSeq(name, "/") {
		if part == ".." {
			return "", &TFTPError{tftpDenied, "no way leads out of this server's files"}
		}
	}
	return strings.TrimPrefix(path.Clean("/"+name), "/"), nil
}

// option takes an option of RFC 2348, 2349 or 7440; others are ignored, as RFC 2347
// asks.
func (r *TFTPRequest) option(name, value string) {
	n, err := strconv.Atoi(value)
	if err != nil {
		return
	}
	switch {
	case name == "blksize" && n >= 8 && n <= 65464:
		r.Block = min(n, maxBlock)
	case name == "windowsize" && n >= 1 && n <= 65535:
		r.Window = min(n, maxWindow)
	case name == "timeout" && n >= 1 && n <= 255:
		r.Timeout = time.Duration(n) * time.Second
	case name == "tsize" && n == 0:
	default:
		return
	}
	r.options = append(r.options, name)
}

// Transfer sends one file to one client. Its methods return the packets to send.
type Transfer struct {
	r        TFTPRequest
	content  io.ReaderAt
	size     int64
	accepted bool          // the options are acknowledged, or there are none
	acked    int64         // blocks that have arrived
	sentTo   int64         // last block that was sent
	resent   int           // times in a row without news
	pause    time.Duration // before the next resend
	deadline time.Time
	done     bool
	err      error
}

// NewTransfer begins a transfer; First has to follow. In mode netascii the file is
// read at once; an error is a *TFTPError or the file's.
func NewTransfer(r *TFTPRequest, content io.ReaderAt, size int64) (*Transfer, error) {
	t := &Transfer{r: *r, content: content, size: size, accepted: len(r.options) == 0, pause: r.Timeout}
	if !r.Text {
		return t, nil
	}
	if size > maxText {
		return nil, &TFTPError{tftpIllegal, "this file is not a text; ask for it in mode octet"}
	}
	plain := make([]byte, size)
	if _, err := content.ReadAt(plain, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	text := netascii(plain)
	t.content, t.size = bytes.NewReader(text), int64(len(text))
	return t, nil
}

// netascii is a text as RFC 764 has it on the wire: lines end with CR LF, and a CR by
// itself is followed by a NUL.
func netascii(plain []byte) []byte {
	return []byte(strings.NewReplacer("\r\n", "\r\n", "\n", "\r\n", "\r", "\r\x00").Replace(string(plain)))
}

// blocks is how many blocks the file has; the last is shorter than the others, and
// may be empty.
func (t *Transfer) blocks() int64 { return t.size/int64(t.r.Block) + 1 }

// Done tells whether it is over, and the error if it did not go well.
func (t *Transfer) Done() (bool, error) { return t.done, t.err }

// Acknowledged is how many bytes have arrived.
func (t *Transfer) Acknowledged() int64 { return min(t.acked*int64(t.r.Block), t.size) }

// Deadline is when Timeout has to be called.
func (t *Transfer) Deadline() time.Time { return t.deadline }

// First begins: with the options that are accepted, or with data.
func (t *Transfer) First(now time.Time) ([][]byte, error) {
	t.deadline = now.Add(t.pause)
	if t.accepted {
		return t.window()
	}
	b := binary.BigEndian.AppendUint16(nil, opOack)
	for _, name := range t.r.options {
		value := map[string]int64{"blksize": int64(t.r.Block), "windowsize": int64(t.r.Window), "timeout": int64(t.r.Timeout / time.Second), "tsize": t.size}[name]
		b = fmt.Appendf(b, "%s\x00%d\x00", name, value)
	}
	return [][]byte{b}, nil
}

// window are the blocks after the last one that arrived.
func (t *Transfer) window() (packets [][]byte, err error) {
	last := min(t.acked+int64(t.r.Window), t.blocks())
	for n := t.acked + 1; n <= last; n++ {
		at := (n - 1) * int64(t.r.Block)
		b := make([]byte, 4+min(int64(t.r.Block), t.size-at))
		binary.BigEndian.PutUint16(b, opData)
		binary.BigEndian.PutUint16(b[2:], uint16(n)) // it wraps past 65535
		if _, err := t.content.ReadAt(b[4:], at); err != nil && !errors.Is(err, io.EOF) {
			t.done, t.err = true, err
			return [][]byte{(&TFTPError{tftpUndefined, "the file cannot be read"}).Packet()}, err
		}
		packets = append(packets, b)
	}
	t.sentTo = last
	return packets, nil
}

// Handle takes a packet of the client.
func (t *Transfer) Handle(now time.Time, b []byte) ([][]byte, error) {
	if t.done || len(b) < 4 {
		return nil, nil
	}
	switch binary.BigEndian.Uint16(b) {
	case opError:
		text, _, _ := bytes.Cut(b[4:], []byte{0})
		t.done = true
		// Firmware asks for the size and breaks off, then asks again.
		t.err = &TFTPError{binary.BigEndian.Uint16(b[2:]), strings.ToValidUTF8(string(text), "?")}
		return nil, nil
	case opAck:
		return t.ack(now, binary.BigEndian.Uint16(b[2:]))
	default:
		return nil, nil
	}
}

// ack takes an acknowledgement: of the options, number 0; of a block, which says
// that all before it arrived, too. An old one, which comes twice, is not answered
// (RFC 1123, 4.2.3.1).
func (t *Transfer) ack(now time.Time, number uint16) ([][]byte, error) {
	if !t.accepted {
		if number != 0 {
			return nil, nil
		}
		t.accepted = true
	} else {
		ahead := int64(number - uint16(t.acked)) // of what is known, modulo 65536
		if ahead == 0 && t.r.Window > 1 && t.resent == 0 && t.acked < t.sentTo && t.acked > 0 {
			// RFC 7440, 4: the first block of the window was lost; once is enough.
			t.resent++
			t.deadline = now.Add(t.pause)
			return t.window()
		}
		if ahead == 0 || t.acked+ahead > t.sentTo {
			return nil, nil
		}
		t.acked += ahead
	}
	t.resent, t.pause = 0, t.r.Timeout
	t.deadline = now.Add(t.pause)
	if t.acked == t.blocks() {
		t.done = true
		return nil, nil
	}
	return t.window()
}

// Timeout sends again what may have been lost; after some times it gives up. When
// all was sent and just the last acknowledgement is missing, that is no error: the
// client has what it wanted.
func (t *Transfer) Timeout(now time.Time) ([][]byte, error) {
	if t.done || now.Before(t.deadline) {
		return nil, nil
	}
	if t.resent++; t.resent > resends {
		t.done = true
		if t.sentTo < t.blocks() || !t.accepted {
			t.err = fmt.Errorf("it has said nothing since %d of %d bytes", t.Acknowledged(), t.size)
		}
		return nil, nil
	}
	t.pause = min(2*t.pause, max(longestPause, t.r.Timeout))
	if !t.accepted {
		return t.First(now)
	}
	t.deadline = now.Add(t.pause)
	return t.window()
}
