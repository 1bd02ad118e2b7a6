package phone

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"strings"
	"sync"

	"yamato/internal/bridge"
	"yamato/internal/contain"
)

// Bounds of a connection: a bridge opens a stream for each thing that it wants, and closes it.
const (
	maxStreams = 256
	maxKey     = 4096
)

// features are what this phone can beyond the oldest (the OS names them).
var features = []string{"shell_v2", "cmd", "stat_v2"}

// banner is what the phone tells of itself when a bridge connects.
func (p *Phone) banner() string {
	return fmt.Sprintf("device::ro.product.name=%s;ro.product.model=%s;ro.product.device=%s;features=%s",
		p.config.Model, p.config.Model, p.config.Model, strings.Join(features, ","))
}

// connection is one bridge's, over which many streams go.
type connection struct {
	phone *Phone
	net   net.Conn
	ctx   context.Context
	most  int // data of a packet, as both ends have it

	writing sync.Mutex
	out     []byte

	mu      sync.Mutex
	streams map[uint32]*stream
	last    uint32
	work    sync.WaitGroup
	back    reversed
}

func (p *Phone) attend(ctx context.Context, c net.Conn) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	conn := &connection{phone: p, net: c, ctx: ctx, most: bridge.OldMaxData, streams: map[uint32]*stream{}, back: reversed{ports: map[string]back{}}}
	defer conn.work.Wait()
	defer conn.endAll()
	defer conn.forgetBacks()
	defer stop()
	if err := conn.greet(); err != nil {
		return err
	}
	for {
		packet, err := bridge.ReadPacket(c, bridge.MaxData)
		if err != nil {
			return err
		}
		if err := conn.hear(packet); err != nil {
			return err
		}
	}
}

func (c *connection) send(p bridge.Packet) error {
	c.writing.Lock()
	defer c.writing.Unlock()
	c.out = p.Append(c.out[:0])
	_, err := c.net.Write(c.out)
	return err
}

// greet takes a bridge in, once a person has allowed its computer.
func (c *connection) greet() error {
	p, err := bridge.ReadPacket(c.net, bridge.MaxData)
	if err != nil {
		return err
	}
	if p.Command != bridge.Connect {
		return fmt.Errorf("a bridge begins with %s, and not with %s", bridge.Connect, p.Command)
	}
	version := min(p.Arg0, bridge.Unchecked)
	c.most = int(min(p.Arg1, bridge.MaxData))
	if c.most < 1024 {
		return fmt.Errorf("a bridge takes at most %d bytes at once, which is too few", c.most)
	}
	if c.phone.config.Allow != nil {
		if err := c.authorise(); err != nil {
			return err
		}
	}
	return c.send(bridge.Packet{Command: bridge.Connect, Arg0: version, Arg1: uint32(c.most), Data: []byte(c.phone.banner())})
}

// authorise lets a computer pass whose key the phone knows, or a person allows on its screen.
func (c *connection) authorise() error {
	for tries := 0; ; tries++ {
		if tries > 16 {
			return errors.New("a bridge has tried too many keys")
		}
		token := make([]byte, 20)
		_, _ = rand.Read(token) // never fails (crypto/rand)
		if err := c.send(bridge.Packet{Command: bridge.Auth, Arg0: bridge.AuthToken, Data: token}); err != nil {
			return err
		}
		answer, err := bridge.ReadPacket(c.net, maxKey)
		if err != nil {
			return err
		}
		switch {
		case answer.Command != bridge.Auth:
			return fmt.Errorf("a bridge that is to say who it is says %s", answer.Command)
		case answer.Arg0 == bridge.AuthSignature:
			if c.phone.knows(token, answer.Data) {
				return nil
			}
		case answer.Arg0 == bridge.AuthPublicKey:
			key := string(bytes.TrimRight(answer.Data, "\x00"))
			if _, err := readKey(key); err != nil {
				return err
			}
			allowed, always := c.phone.config.Allow(c.ctx, key)
			if !allowed {
				return errors.New("a person has not allowed this computer")
			}
			if always {
				c.phone.mu.Lock()
				c.phone.known[key] = true
				c.phone.mu.Unlock()
			}
			return nil
		default:
			return errors.New("a bridge answers with neither a signature nor a key")
		}
	}
}

// knows tells whether one of the keys that are always allowed has signed a token.
func (p *Phone) knows(token, signature []byte) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for text := range p.known {
		key, err := readKey(text)
		// The token stands in the place of a digest of 20 bytes (auth.cpp of the OS): it is random already.
		if err == nil && rsa.VerifyPKCS1v15(key, crypto.SHA1, token, signature) == nil {
			return true
		}
	}
	return false
}

// readKey reads a public key as bridges write it (android_pubkey.cpp of the OS): words in a modulus, its inverse, the
// modulus and a factor of it with their least bytes first, an exponent; in base64, and the computer's name after it.
func readKey(text string) (*rsa.PublicKey, error) {
	const words = 64
	encoded, _, _ := strings.Cut(text, " ")
	raw, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil || len(raw) != 4+4+words*4+words*4+4 || binary.LittleEndian.Uint32(raw) != words {
		return nil, errors.New("this is no public key of a bridge's")
	}
	modulus := bytes.Clone(raw[8 : 8+words*4])
	for i, j := 0, len(modulus)-1; i < j; i, j = i+1, j-1 {
		modulus[i], modulus[j] = modulus[j], modulus[i]
	}
	e := binary.LittleEndian.Uint32(raw[len(raw)-4:])
	if e != 3 && e != 65537 {
		return nil, errors.New("the exponent of this key is none that bridges use")
	}
	return &rsa.PublicKey{N: new(big.Int).SetBytes(modulus), E: int(e)}, nil
}

// hear takes in a packet.
func (c *connection) hear(p bridge.Packet) error {
	switch p.Command {
	case bridge.Open:
		return c.open(p)
	case bridge.Ready, bridge.Write, bridge.Close:
		c.mu.Lock()
		s := c.streams[p.Arg1]
		c.mu.Unlock()
		if s == nil {
			if p.Command != bridge.Close { // it was closed here, a moment before
				return c.send(bridge.Packet{Command: bridge.Close, Arg1: p.Arg0})
			}
			return nil
		}
		return s.hear(p)
	case bridge.Connect, bridge.Auth:
		return fmt.Errorf("%s comes at the beginning only", p.Command)
	}
	return fmt.Errorf("nobody knows what %s is", p.Command)
}

func (c *connection) open(p bridge.Packet) error {
	service := string(bytes.TrimRight(p.Data, "\x00"))
	c.mu.Lock()
	full := len(c.streams) >= maxStreams
	c.last++
	s := newStream(c, c.last, p.Arg0)
	serve := c.phone.service(service)
	if what, ok := strings.CutPrefix(service, "reverse:"); ok {
		serve = func(ctx context.Context, s *stream) { c.reverse(ctx, s, what) }
	}
	if !full && serve != nil && p.Arg0 != 0 {
		c.streams[s.own] = s
	}
	c.mu.Unlock()
	if full || serve == nil || p.Arg0 == 0 {
		s.leave()
		return c.send(bridge.Packet{Command: bridge.Close, Arg1: p.Arg0})
	}
	if err := c.send(bridge.Packet{Command: bridge.Ready, Arg0: s.own, Arg1: s.other}); err != nil {
		return err
	}
	c.work.Go(func() {
		defer s.leave()
		_ = contain.Do("a service of the phone", func() error { serve(s.ctx, s); return nil })
		_ = s.Close()
	})
	return nil
}

func (c *connection) endAll() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.streams {
		s.end()
	}
}

// stream is one conversation. Each end waits, after what it has written, until the other has taken it.
type stream struct {
	conn       *connection
	own, other uint32
	ctx        context.Context // ends with it
	leave      context.CancelFunc

	mu      sync.Mutex
	change  *sync.Cond
	in      []byte // that came and was not read; the other sends no more before that is acknowledged
	came    bool   // something came that was not acknowledged
	ready   bool   // the other has taken what was written last
	closed  bool   // by this end
	ended   bool   // by the other end
	writing sync.Mutex
}

func newStream(c *connection, own, other uint32) *stream {
	s := &stream{conn: c, own: own, other: other, ready: true}
	s.ctx, s.leave = context.WithCancel(c.ctx)
	s.change = sync.NewCond(&s.mu)
	return s
}

func (s *stream) hear(p bridge.Packet) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	defer s.change.Broadcast()
	switch p.Command {
	case bridge.Ready:
		if s.other == 0 { // the bridge has opened its end of what this one began
			s.other = p.Arg0
		}
		s.ready = true
	case bridge.Write:
		if s.came {
			return errors.New("a bridge goes on before what it wrote was taken")
		}
		s.in, s.came = p.Data, true
	case bridge.Close:
		s.ended = true
		s.leave()
	}
	return nil
}

func (s *stream) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	s.change.Broadcast()
}

// Read reads what the other end has written. It gives io.EOF once that is closed.
func (s *stream) Read(b []byte) (int, error) {
	s.mu.Lock()
	for len(s.in) == 0 {
		if s.came { // all of it has been read
			s.came = false
			s.mu.Unlock()
			if err := s.conn.send(bridge.Packet{Command: bridge.Ready, Arg0: s.own, Arg1: s.other}); err != nil {
				return 0, err
			}
			s.mu.Lock()
			continue
		}
		if s.ended || s.closed {
			s.mu.Unlock()
			return 0, io.EOF
		}
		s.change.Wait()
	}
	n := copy(b, s.in)
	s.in = s.in[n:]
	s.mu.Unlock()
	return n, nil
}

// Write writes all of b, a packet after the other.
func (s *stream) Write(b []byte) (int, error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	written := 0
	for len(b) > 0 {
		piece := b[:min(len(b), s.conn.most)]
		s.mu.Lock()
		for !s.ready && !s.ended && !s.closed {
			s.change.Wait()
		}
		gone := s.ended || s.closed
		s.ready = false
		s.mu.Unlock()
		if gone {
			return written, io.ErrClosedPipe
		}
		if err := s.conn.send(bridge.Packet{Command: bridge.Write, Arg0: s.own, Arg1: s.other, Data: piece}); err != nil {
			return written, err
		}
		b, written = b[len(piece):], written+len(piece)
	}
	return written, nil
}

// Close closes the stream once all that was written has been taken.
func (s *stream) Close() error {
	s.mu.Lock()
	for !s.ready && !s.ended {
		s.change.Wait()
	}
	again := s.closed
	s.closed = true
	s.change.Broadcast()
	s.mu.Unlock()
	if again {
		return nil
	}
	s.conn.mu.Lock()
	delete(s.conn.streams, s.own)
	s.conn.mu.Unlock()
	return s.conn.send(bridge.Packet{Command: bridge.Close, Arg0: s.own, Arg1: s.other})
}
