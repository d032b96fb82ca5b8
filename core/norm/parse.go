package norm

import (
	"encoding/binary"
	"math"
	"time"
)

// split checks the common header and returns a message's type, its header behind
// the common part, and what follows the header.
func split(b []byte) (t messageType, h head, header, content []byte, err error) {
	if len(b) < commonHeader || len(b) > MaxPacket || b[0]>>4 != version {
		return 0, h, nil, nil, ErrMessage
	}
	length := 4 * int(b[1])
	if length < commonHeader || length > len(b) {
		return 0, h, nil, nil, ErrMessage
	}
	h = head{Sequence: binary.BigEndian.Uint16(b[2:]), Source: NodeID(binary.BigEndian.Uint32(b[4:]))}
	if h.Source == NodeNone || h.Source == NodeAny {
		return 0, h, nil, nil, ErrMessage
	}
	return messageType(b[0] & 15), h, b[commonHeader:length], b[length:], nil
}

// parseSenderHead reads the word behind the common header, and returns what follows.
func (s *senderHead) parse(h head, b []byte) ([]byte, error) {
	if len(b) < 4 {
		return nil, ErrMessage
	}
	*s = senderHead{head: h, Instance: binary.BigEndian.Uint16(b), GRTT: b[2], Backoff: b[3] >> 4, GroupSize: b[3] & 15}
	return b[4:], nil
}

func parsePayloadID(b []byte) (block uint32, symbol uint8) {
	v := binary.BigEndian.Uint32(b)
	return v >> 8, uint8(v)
}

// parse reads NORM_DATA or NORM_INFO; the payload stays where it is.
func (d *dataMessage) parse(t messageType, h head, header, content []byte) error {
	*d = dataMessage{Info: t == typeInfo, Payload: content}
	b, err := d.senderHead.parse(h, header)
	if err != nil {
		return err
	}
	need := 8
	if d.Info {
		need = 4
	}
	if len(b) < need || b[1] != fecID {
		return ErrMessage
	}
	d.Flags, d.Object = b[0], ObjectID(binary.BigEndian.Uint16(b[2:]))
	if !d.Info {
		d.Block, d.Symbol = parsePayloadID(b[4:])
	}
	d.extensions, err = parseExtensions(b[need:])
	return err
}

func (c *cmdMessage) parse(h head, header, content []byte) error {
	*c = cmdMessage{}
	b, err := c.senderHead.parse(h, header)
	if err != nil || len(b) < 4 {
		return ErrMessage
	}
	c.Flavor = flavor(b[0])
	fixed := 4
	switch c.Flavor {
	case cmdFlush, cmdSquelch:
		if fixed = 8; len(b) < fixed || b[1] != fecID {
			return ErrMessage
		}
		c.Object = ObjectID(binary.BigEndian.Uint16(b[2:]))
		c.Block, c.Symbol = parsePayloadID(b[4:])
		if c.Flavor == cmdFlush {
			c.Nodes, err = parseNodes(content)
		} else {
			for ; len(content) >= 2; content = content[2:] {
				c.Invalid = append(c.Invalid, ObjectID(binary.BigEndian.Uint16(content)))
			}
		}
	case cmdCC:
		if fixed = 12; len(b) < fixed || len(content)%8 != 0 {
			return ErrMessage
		}
		c.Sequence = binary.BigEndian.Uint16(b[2:])
		if c.SendTime, err = parseTime(b[4:]); err != nil {
			return err
		}
		for ; len(content) >= 8; content = content[8:] {
			c.CCNodes = append(c.CCNodes, ccNode{
				Node: NodeID(binary.BigEndian.Uint32(content)), Flags: content[4], RTT: content[5], Rate: binary.BigEndian.Uint16(content[6:])})
		}
	case cmdRepairAdv:
		c.Limited = b[1]&1 != 0
		c.Requests, err = parseRequests(content)
	case cmdAckReq:
		c.AckType, c.AckID = b[2], b[3]
		c.Nodes, err = parseNodes(content)
	case cmdApplication:
		c.Content = content
	case cmdEOT:
	default:
		return ErrMessage
	}
	if err != nil {
		return err
	}
	c.extensions, err = parseExtensions(b[fixed:])
	return err
}

func parseNodes(b []byte) (nodes []NodeID, err error) {
	if len(b)%4 != 0 {
		return nil, ErrMessage
	}
	for ; len(b) > 0; b = b[4:] {
		nodes = append(nodes, NodeID(binary.BigEndian.Uint32(b)))
	}
	return nodes, nil
}

func parseTime(b []byte) (time.Time, error) {
	s, us := binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])
	if us >= 1e6 {
		return time.Time{}, ErrMessage
	}
	if s == 0 && us == 0 {
		return time.Time{}, nil
	}
	return time.Unix(int64(s), int64(us)*1000), nil
}

func (f *feedback) parse(h head, b []byte) error {
	if len(b) < 16 {
		return ErrMessage
	}
	*f = feedback{head: h, Sender: NodeID(binary.BigEndian.Uint32(b)), Instance: binary.BigEndian.Uint16(b[4:])}
	var err error
	f.Response, err = parseTime(b[8:])
	return err
}

func (n *nackMessage) parse(h head, header, content []byte) error {
	*n = nackMessage{}
	err := n.feedback.parse(h, header)
	if err == nil {
		n.extensions, err = parseExtensions(header[16:])
	}
	if err == nil {
		n.Requests, err = parseRequests(content)
	}
	return err
}

func (a *ackMessage) parse(h head, header, content []byte) error {
	*a = ackMessage{}
	if err := a.feedback.parse(h, header); err != nil {
		return err
	}
	a.Type, a.ID = header[6], header[7]
	if a.Type == ackFlush {
		if len(content) < 8 || content[0] != fecID {
			return ErrMessage
		}
		a.Object = ObjectID(binary.BigEndian.Uint16(content[2:]))
		a.Block, a.Symbol = parsePayloadID(content[4:])
	}
	var err error
	a.extensions, err = parseExtensions(header[16:])
	return err
}

// sequenceGap is how far b is ahead of a.
func sequenceGap(a, b uint16) int {
	gap := int(b - a)
	if gap > math.MaxInt16 {
		gap -= math.MaxUint16 + 1
	}
	return gap
}
