package bridge

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestAPacketIsReadAsItWasWritten(t *testing.T) {
	p := Packet{Open, 7, 0, []byte("shell:echo\x00")}
	b := p.Append(nil)
	require.Equal(t, "OPEN", string(b[:4]))
	require.Len(t, b, 24+11)
	got, err := ReadPacket(bytes.NewReader(b), MaxData)
	require.NoError(t, err)
	require.Equal(t, p, got)
	require.Equal(t, `"OPEN"`, got.Command.String())
}

func TestWhatIsNoPacketIsRefusedBeforeItIsRead(t *testing.T) {
	b := Packet{Write, 1, 2, make([]byte, 100)}.Append(nil)
	_, err := ReadPacket(bytes.NewReader(b), 99)
	require.ErrorIs(t, err, ErrPacket)
	require.ErrorContains(t, err, "at most 99")
	b[20]++
	_, err = ReadPacket(bytes.NewReader(b), MaxData)
	require.ErrorIs(t, err, ErrPacket)
	b[20]--
	_, err = ReadPacket(bytes.NewReader(b[:50]), MaxData)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = ReadPacket(bytes.NewReader(nil), MaxData)
	require.ErrorIs(t, err, io.EOF)
}

func TestFramesOfAShellAreBounded(t *testing.T) {
	f, data, err := ReadFrame(bytes.NewReader(AppendFrame(nil, FrameErr, []byte("no such thing"))))
	require.NoError(t, err)
	require.Equal(t, FrameErr, f)
	require.Equal(t, "no such thing", string(data))
	_, _, err = ReadFrame(bytes.NewReader([]byte{1, 0xff, 0xff, 0xff, 0xff}))
	require.ErrorContains(t, err, "at most")
}

// nothing is a folder in which nothing is, and to which nothing can be put.
type nothing struct{}

func (nothing) Stat(string, bool) (Stat, error) { return Stat{}, fs.ErrNotExist }
func (nothing) List(string) ([]Stat, error)     { return nil, fs.ErrNotExist }
func (nothing) Get(string) (io.ReadCloser, error) {
	return nil, errors.New("No such file or directory")
}
func (nothing) Put(string, fs.FileMode) (Upload, error) {
	return nil, errors.New("Read-only file system")
}

// talk is what one end says, and what it is answered.
type talk struct {
	io.Reader
	bytes.Buffer
}

func (t *talk) Read(b []byte) (int, error) { return t.Reader.Read(b) }

func word(name string, n uint32, rest string) string {
	return name + string([]byte{byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24)}) + rest
}

func TestATransferThatIsRefusedIsReadToItsEndAndTheNextGoesOn(t *testing.T) {
	said := word("SEND", 12, "/x/y.bin,420") + word("DATA", 3, "abc") + word("DONE", uint32(time.Hour.Seconds()), "") +
		word("RECV", 2, "/x") + word("STAT", 2, "/x") + word("STA2", 2, "/x") + word("LIST", 2, "/x") + word("QUIT", 0, "")
	at := &talk{Reader: bytes.NewReader([]byte(said))}
	require.NoError(t, ServeFiles(at, nothing{}))
	require.Equal(t, word("FAIL", 21, "Read-only file system")+word("FAIL", 25, "No such file or directory")+
		"STAT"+string(make([]byte, 12))+word("STA2", 2, string(make([]byte, 64)))+"DONE"+string(make([]byte, 16)), at.String())
}

func TestAPathThatIsTooLongIsRefused(t *testing.T) {
	require.ErrorContains(t, ServeFiles(&talk{Reader: bytes.NewReader([]byte(word("STAT", 1<<31, "")))}, nothing{}), "path of")
}

func FuzzPackets(f *testing.F) {
	f.Add(Packet{Connect, Unchecked, MaxData, []byte("host::\x00")}.Append(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := ReadPacket(bytes.NewReader(b), 1<<16)
		if err == nil {
			again, err := ReadPacket(bytes.NewReader(p.Append(nil)), 1<<16)
			require.NoError(t, err)
			require.Equal(t, p, again)
		}
	})
}

func FuzzFiles(f *testing.F) {
	f.Add([]byte(word("SEND", 6, "/x,420") + word("DATA", 1, "a") + word("DONE", 1, "")))
	f.Fuzz(func(t *testing.T, b []byte) {
		_ = ServeFiles(&talk{Reader: bytes.NewReader(b)}, nothing{})
	})
}
