package bridge

import (
	"encoding/binary"
	"fmt"
	"io"
)

// Frame is a piece of a shell's traffic (shell_service.h).
type Frame byte

// The frames.
const (
	FrameIn     Frame = 0
	FrameOut    Frame = 1
	FrameErr    Frame = 2
	FrameExit   Frame = 3 // one byte: the exit code
	FrameNoMore Frame = 4 // nothing more comes in
	FrameSize   Frame = 5 // of the window
)

// maxFrame bounds a frame that is read, in bytes: a shell sends no more than fits a packet.
const maxFrame = MaxData

// ReadFrame reads one into memory of its own.
func ReadFrame(r io.Reader) (Frame, []byte, error) {
	var head [5]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	length := binary.LittleEndian.Uint32(head[1:])
	if length > maxFrame {
		return 0, nil, fmt.Errorf("a frame of the shell says that it has %d bytes, and at most %d may come", length, maxFrame)
	}
	data := make([]byte, length)
	if _, err := io.ReadFull(r, data); err != nil {
		return 0, nil, io.ErrUnexpectedEOF
	}
	return Frame(head[0]), data, nil
}

// AppendFrame writes a frame to the end of b.
func AppendFrame(b []byte, f Frame, data []byte) []byte {
	b = append(b, byte(f))
	b = binary.LittleEndian.AppendUint32(b, uint32(len(data)))
	return append(b, data...)
}
