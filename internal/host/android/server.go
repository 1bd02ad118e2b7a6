package android

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"

	"yamato/internal/bridge"
	"yamato/internal/retry"
)

// How long the bridge's server may take: it runs on this machine, and what takes long has deadlines of its own.
const (
	dialLimit  = 5 * time.Second
	startLimit = 20 * time.Second
)

// maxSaid bounds what the server says at once, and maxOutput what a line on a phone writes, in bytes; maxShot is the bound
// of one that writes a picture, or its screen.
const (
	maxSaid   = 1 << 20
	maxOutput = 6 << 20
	maxShot   = 40 << 20
)

// Server is the bridge's server on this machine (OVERVIEW.TXT, SERVICES.TXT of the OS's bridge).
type Server struct {
	Address string // 127.0.0.1:5037 where empty
	Command string // what starts it where nobody answers; adb where empty
}

// errServer tells that the way to all phones of this machine is in trouble.
var errServer = errors.New("the debug bridge's server does not answer")

func (s *Server) address() string {
	if s.Address != "" {
		return s.Address
	}
	if port := os.Getenv("ANDROID_ADB_SERVER_PORT"); port != "" {
		return "127.0.0.1:" + port
	}
	return "127.0.0.1:5037"
}

// starting has one start the server at a time: two at once have neither come up.
var starting sync.Mutex

// Start has the server run, if it does not.
func (s *Server) Start(ctx context.Context) error {
	starting.Lock()
	defer starting.Unlock()
	if _, err := s.ask(ctx, "host:version"); err == nil {
		return nil
	}
	command := s.Command
	if command == "" {
		command = "adb"
	}
	ctx, stop := context.WithTimeout(ctx, startLimit)
	defer stop()
	_, port, _ := net.SplitHostPort(s.address())
	out, err := exec.CommandContext(ctx, command, "-P", port, "start-server").CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		return fmt.Errorf("%w, and %s is not installed here: apt-get install -y adb", errServer, command)
	}
	if err == nil {
		return nil
	}
	// Another program may have started it at the same moment: then it answers in a while.
	pause := retry.From(50*time.Millisecond, time.Second)
	for range 5 {
		if retry.For(ctx, pause.Next()) != nil {
			break
		}
		if _, err := s.ask(ctx, "host:version"); err == nil {
			return nil
		}
	}
	return fmt.Errorf("%w, and cannot be started: %s", errServer, bytes.TrimSpace(out[:min(len(out), 500)]))
}

// Available tells why no phones can be found on this machine, nil where they can.
func Available() error {
	if _, err := exec.LookPath("adb"); err != nil {
		return errors.New("Android's debug bridge is not installed here (as root: apt-get install -y adb)")
	}
	return nil
}

// Stop ends the server, and with it the way to all phones that it sees: for a server that is nobody else's.
func (s *Server) Stop(ctx context.Context) error {
	c, err := s.dial(ctx)
	if err != nil {
		return nil // there is none
	}
	defer c.Close()
	err = request(c, "host:kill")
	if errors.Is(err, errServer) { // it may end before it says so
		return nil
	}
	return err
}

// dial connects to the server and asks for a service. What it says after its OKAY is read from the connection, which ends
// with ctx.
func (s *Server) dial(ctx context.Context, services ...string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialLimit}
	raw, err := d.DialContext(ctx, "tcp", s.address())
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errServer, err)
	}
	c := closing{raw, context.AfterFunc(ctx, func() { _ = raw.Close() })}
	for _, service := range services {
		if err := request(c, service); err != nil {
			_ = c.Close()
			return nil, err
		}
	}
	return c, nil
}

// closing is a connection that ends with a context, and lets go of it when it is closed.
type closing struct {
	net.Conn
	forget func() bool
}

// Close closes the connection.
func (c closing) Close() error {
	c.forget()
	return c.Conn.Close()
}

// refusal is the server's word for why it does not do something.
type refusal struct {
	words string
	away  bool // it does not see the phone, or cannot talk to it
}

func (r *refusal) Error() string { return r.words }

func request(c net.Conn, service string) error {
	_ = c.SetDeadline(time.Now().Add(dialLimit))
	defer func() { _ = c.SetDeadline(time.Time{}) }()
	if len(service) > 0xffff {
		return errors.New("a line for the phone is too long")
	}
	if _, err := fmt.Fprintf(c, "%04x%s", len(service), service); err != nil {
		return fmt.Errorf("%w: %w", errServer, err)
	}
	var status [4]byte
	if _, err := io.ReadFull(c, status[:]); err != nil {
		return fmt.Errorf("%w: %w", errServer, err)
	}
	switch string(status[:]) {
	case "OKAY":
		return nil
	case "FAIL":
		words, err := said(c)
		if err != nil {
			return err
		}
		return &refusal{words, strings.HasPrefix(service, "host:transport:")}
	}
	return fmt.Errorf("%w as a bridge's does: it says %q", errServer, status)
}

// said reads words with their length before them.
func said(c io.Reader) (string, error) {
	var head [4]byte
	if _, err := io.ReadFull(c, head[:]); err != nil {
		return "", fmt.Errorf("%w: %w", errServer, err)
	}
	n, err := strconv.ParseUint(string(head[:]), 16, 16)
	if err != nil || n > maxSaid {
		return "", fmt.Errorf("%w as a bridge's does: it says %q where a length stands", errServer, head)
	}
	words := make([]byte, n)
	if _, err := io.ReadFull(c, words); err != nil {
		return "", fmt.Errorf("%w: %w", errServer, err)
	}
	return string(words), nil
}

func (s *Server) ask(ctx context.Context, service string) (string, error) {
	ctx, stop := context.WithTimeout(ctx, dialLimit)
	defer stop()
	c, err := s.dial(ctx, service)
	if err != nil {
		return "", err
	}
	defer c.Close()
	return said(c)
}

// Seen is a phone as the server sees it.
type Seen struct{ Serial, State string } // device, offline, unauthorized, recovery, …

// Track tells of all phones whenever that changes, until ctx ends or the server does.
func (s *Server) Track(ctx context.Context, told func([]Seen)) error {
	c, err := s.dial(ctx, "host:track-devices")
	if err != nil {
		return err
	}
	defer c.Close()
	for {
		text, err := said(c)
		if err != nil {
			return err
		}
		told(seenIn(text))
	}
}

// Devices tells of all phones as they are now.
func (s *Server) Devices(ctx context.Context) ([]Seen, error) {
	text, err := s.ask(ctx, "host:devices")
	return seenIn(text), err
}

// Connect has the server connect to a phone over the network. One that it has, and that does not answer, it lets go of first.
func (s *Server) Connect(ctx context.Context, at string) error {
	list, err := s.Devices(ctx)
	if err != nil {
		return err
	}
	for _, one := range list {
		if one.Serial == at && one.State == "offline" {
			if _, err := s.ask(ctx, "host:disconnect:"+at); err != nil {
				return err
			}
		}
	}
	words, err := s.ask(ctx, "host:connect:"+at)
	if err == nil && !strings.HasPrefix(words, "connected to") && !strings.HasPrefix(words, "already connected") &&
		!strings.HasPrefix(words, "failed to authenticate") {
		err = errors.New(clipped(words, 300))
	}
	return err
}

// Announce tells the server of an emulator whose side of the bridge is at a port of this machine, as an emulator does of itself.
func (s *Server) Announce(ctx context.Context, port int) error {
	c, err := s.dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	service := fmt.Sprintf("host:emulator:%d", port)
	_, err = fmt.Fprintf(c, "%04x%s", len(service), service)
	return err // the server says nothing to that
}

func seenIn(text string) []Seen {
	list := []Seen{}
	for _, line := range strings.Split(text, "\n") {
		if serial, state, ok := strings.Cut(line, "\t"); ok {
			list = append(list, Seen{serial, state})
		}
	}
	return list
}

// Output is what a line on a phone has written, and its exit code.
type Output struct {
	Out, Err []byte
	Code     int
}

// Run runs a line in the phone's shell. in is its input, nil for none; most is how many bytes it may write.
func (s *Server) Run(ctx context.Context, serial, line string, in io.Reader, most int) (Output, error) {
	c, err := s.dial(ctx, "host:transport:"+serial, "shell,v2,raw:"+line)
	if err != nil {
		return Output{}, err
	}
	defer c.Close()
	if in == nil {
		in = bytes.NewReader(nil)
	}
	fed := make(chan error, 1)
	go func() { fed <- feed(c, in) }() // it ends with the connection, and is waited for
	out, err := hear(ctx, c, most)
	_ = c.Close()
	if wrong := <-fed; err == nil && wrong != nil && !errors.Is(wrong, net.ErrClosed) && out.Code != 0 {
		err = wrong
	}
	return out, err
}

// Exec runs a line whose input goes as it is, and gives all that it writes, which is at most so many bytes. No exit code comes
// with it: it is for much input, which a shell's frames make slower.
func (s *Server) Exec(ctx context.Context, serial, line string, in io.Reader, most int64) ([]byte, error) {
	c, err := s.dial(ctx, "host:transport:"+serial, "exec:"+line)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	fed := make(chan error, 1)
	go func() { // it ends with the connection, and is waited for
		_, err := io.Copy(c.(closing).Conn, in)
		fed <- err
	}()
	out, err := io.ReadAll(io.LimitReader(c, most))
	_ = c.Close()
	wrong := <-fed
	switch cause := context.Cause(ctx); {
	case cause != nil:
		err = cause
	case err == nil && len(out) == 0:
		err = fmt.Errorf("the phone broke off in the middle of a line: %w", cmp.Or(wrong, io.ErrUnexpectedEOF))
	}
	return out, err
}

// feed gives a line its input.
func feed(c io.Writer, in io.Reader) error {
	const piece = 64 << 10
	buffer := make([]byte, 5+piece)
	for {
		n, err := in.Read(buffer[5:])
		if n > 0 {
			buffer[0] = byte(bridge.FrameIn)
			binary.LittleEndian.PutUint32(buffer[1:], uint32(n))
			if _, err := c.Write(buffer[:5+n]); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			_, err := c.Write(bridge.AppendFrame(nil, bridge.FrameNoMore, nil))
			return err
		}
		if err != nil {
			return err
		}
	}
}

// hear reads what a line writes, to its exit code.
func hear(ctx context.Context, c io.Reader, most int) (Output, error) {
	var out Output
	for {
		f, data, err := bridge.ReadFrame(c)
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				return out, cause
			}
			return out, fmt.Errorf("the phone broke off in the middle of a line: %w", err)
		}
		switch f {
		case bridge.FrameOut:
			out.Out = append(out.Out, data...)
		case bridge.FrameErr:
			out.Err = append(out.Err, data...)
		case bridge.FrameExit:
			if len(data) == 1 {
				out.Code = int(data[0])
				return out, nil
			}
			return out, errors.New("the phone gives an exit code that is none")
		}
		if len(out.Out)+len(out.Err) > most {
			return Output{}, fmt.Errorf("a line on the phone writes more than %d MB", most>>20)
		}
	}
}
