package bridge

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Command is what a packet says, in four letters.
type Command uint32

// The commands (protocol.txt).
const (
	Connect Command = 0x4e584e43 // CNXN: version, most data, banner
	Auth    Command = 0x48545541 // AUTH: kind, 0, data
	Open    Command = 0x4e45504f // OPEN: own id, 0, service
	Ready   Command = 0x59414b4f // OKAY: own id, the other's id
	Write   Command = 0x45545257 // WRTE: own id, the other's id, data
	Close   Command = 0x45534c43 // CLSE: own id, the other's id
	Secure  Command = 0x534c5453 // STLS: version
)

// String gives the four letters.
func (c Command) String() string {
	var b [4]byte
	binary.LittleEndian.PutUint32(b[:], uint32(c))
	return fmt.Sprintf("%q", b[:])
}

// Kinds of Auth.
const (
	AuthToken     = 1 // 20 bytes that are to be signed
	AuthSignature = 2
	AuthPublicKey = 3
)

// Versions of the protocol: from Unchecked on nobody sums the bytes of data.
const (
	Version   = 0x01000000
	Unchecked = 0x01000001
)

// MaxData is the most data that a packet carries; OldMaxData was it before.
const (
	MaxData    = 1 << 20
	OldMaxData = 4 << 10
)

const headBytes = 24

// Packet is what travels between a bridge and a device.
type Packet struct {
	Command    Command
	Arg0, Arg1 uint32
	Data       []byte
}

// ErrPacket is given for bytes that are no packet.
var ErrPacket = errors.New("this is no packet of the debug bridge")

// ReadPacket reads one. What it says of its length is checked before any of it is read.
func ReadPacket(r io.Reader, most int) (Packet, error) {
	var head [headBytes]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return Packet{}, err
	}
	p := Packet{Command: Command(binary.LittleEndian.Uint32(head[0:])), Arg0: binary.LittleEndian.Uint32(head[4:]),
		Arg1: binary.LittleEndian.Uint32(head[8:])}
	length := binary.LittleEndian.Uint32(head[12:])
	if binary.LittleEndian.Uint32(head[20:]) != ^uint32(p.Command) {
		return Packet{}, fmt.Errorf("%w: its command %s and what checks it differ", ErrPacket, p.Command)
	}
	if int64(length) > int64(most) {
		return Packet{}, fmt.Errorf("%w: it says that it has %d bytes, and at most %d may come", ErrPacket, length, most)
	}
	p.Data = make([]byte, length)
	if _, err := io.ReadFull(r, p.Data); err != nil {
		return Packet{}, io.ErrUnexpectedEOF
	}
	return p, nil
}

// Append writes a packet to the end of b. The sum is that of protocol.txt, which old bridges check.
func (p Packet) Append(b []byte) []byte {
	var sum uint32
	for _, c := range p.Data {
		sum += uint32(c)
	}
	b = binary.LittleEndian.AppendUint32(b, uint32(p.Command))
	b = binary.LittleEndian.AppendUint32(b, p.Arg0)
	b = binary.LittleEndian.AppendUint32(b, p.Arg1)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(p.Data)))
	b = binary.LittleEndian.AppendUint32(b, sum)
	b = binary.LittleEndian.AppendUint32(b, ^uint32(p.Command))
	return append(b, p.Data...)
}
