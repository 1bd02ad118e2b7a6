package appfile

import (
	"archive/zip"
	"encoding/binary"
	"errors"
	"io"
	"slices"
)

// program is what the head of an iOS executable says (mach-o/loader.h, fat.h).
type executable struct {
	abis     []string
	platform uint32 // 2 is iOS, 7 the iOS simulator, 0 where it is not stated
}

const (
	machMagic   = 0xfeedfacf
	fatMagic    = 0xcafebabe
	maxCommands = 256 << 10 // bytes of load commands
	platformIOS = 2
	platformSim = 7
)

var errNotMach = errors.New("it is no executable of iOS")

var machABIs = map[uint32]string{0x0100000c: "arm64", 0x01000007: "x86_64", 0x0000000c: "armv7"}

// readExecutable reads the heads of an executable, whose bytes are packed: it is
// read from the front, as far as the first architecture's load commands.
func readExecutable(f *zip.File) (executable, error) {
	var out executable
	r, err := f.Open()
	if err != nil {
		return out, err
	}
	defer r.Close()
	var head [8]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return out, errNotMach
	}
	if binary.BigEndian.Uint32(head[:]) == fatMagic {
		count := binary.BigEndian.Uint32(head[4:])
		if count == 0 || count > 16 {
			return out, errNotMach
		}
		archs := make([]byte, 20*count)
		if _, err := io.ReadFull(r, archs); err != nil {
			return out, errNotMach
		}
		for i := range count {
			out.add(binary.BigEndian.Uint32(archs[20*i:]))
		}
		skip := int64(binary.BigEndian.Uint32(archs[8:])) - 8 - int64(len(archs))
		if skip < 0 || skip > maxProgram {
			return out, errNotMach
		}
		if _, err := io.CopyN(io.Discard, r, skip); err != nil {
			return out, errNotMach
		}
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return out, errNotMach
		}
	}
	if le32(head[:]) != machMagic {
		return out, errNotMach
	}
	out.add(le32(head[4:]))
	var rest [24]byte
	if _, err := io.ReadFull(r, rest[:]); err != nil {
		return out, errNotMach
	}
	size := le32(rest[12:])
	if size > maxCommands {
		return out, errNotMach
	}
	commands := make([]byte, size)
	if _, err := io.ReadFull(r, commands); err != nil {
		return out, errNotMach
	}
	for len(commands) >= 16 {
		n := le32(commands[4:])
		if n < 8 || int64(n) > int64(len(commands)) {
			return out, errNotMach
		}
		if le32(commands) == 0x32 { // LC_BUILD_VERSION
			out.platform = le32(commands[8:])
		}
		commands = commands[n:]
	}
	return out, nil
}

func (e *executable) add(cpu uint32) {
	if abi := machABIs[cpu]; abi != "" && !slices.Contains(e.abis, abi) {
		e.abis = append(e.abis, abi)
	}
}
