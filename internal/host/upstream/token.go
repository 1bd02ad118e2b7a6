package upstream

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// Token is what a host shows who it is with: one of its own, once a service has given it one, and until then the one
// from a file, which hosts may share.
type Token struct {
	own  string // path of the file that the own one is kept in, "" for none
	host string
	file string // path of the file that the other came from

	mu    sync.Mutex
	now   string
	given string // the one from the file, "" where there is none
}

// kept is the file of a host's own token. It says whose it is: a folder may come to another host.
type kept struct {
	Host  string `json:"host"`
	Token string `json:"token"`
}

// maxTokenFile bounds the files that tokens are read from, in bytes.
const maxTokenFile = 4096

// OpenToken reads a host's tokens: its own from own, where one was kept for a host of this name, and else the one in
// file.
func OpenToken(own, host, file string) (*Token, error) {
	t := &Token{own: own, host: host, file: file}
	text, err := readToken(file)
	if err == nil {
		t.given = strings.TrimSpace(text)
	}
	if body, none := readToken(own); none == nil {
		var k kept
		if bad := json.Unmarshal([]byte(body), &k); bad != nil {
			return nil, fmt.Errorf("the token in %s cannot be read (%w): remove the file, and ask the service for another", own, bad)
		}
		if k.Host == host {
			t.now = k.Token
			return t, nil
		}
	} else if !errors.Is(none, os.ErrNotExist) {
		return nil, none
	}
	if err != nil {
		return nil, err
	}
	t.now = t.given
	return t, nil
}

// FixedToken is one that stays as it is.
func FixedToken(token string) *Token { return &Token{now: token, given: token} }

func readToken(path string) (string, error) {
	if path == "" {
		return "", errors.New("no file is named")
	}
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	if info.Size() > maxTokenFile || !info.Mode().IsRegular() {
		return "", fmt.Errorf("%s holds no token", path)
	}
	body, err := os.ReadFile(path)
	return string(body), err
}

// Now is the token to come with.
func (t *Token) Now() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.now
}

// adopt keeps a token of the host's own, whole or not at all, before it is used.
func (t *Token) adopt(token string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.own != "" {
		body, err := json.Marshal(kept{t.host, token})
		if err != nil {
			return err
		}
		if err := writeWhole(t.own, append(body, '\n')); err != nil {
			return err
		}
	}
	t.now = token
	return nil
}

// writeWhole writes a file that only its owner reads.
func writeWhole(path string, body []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".token-*") // with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // it has its name by then, or is left over
	_, err = f.Write(body)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// refused notes that a service does not know a token, and says what to do. Where it was the host's own and another was
// given, that is tried next: the folder may have been another service's.
func (t *Token) refused(token string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	from := t.file
	if token != t.given {
		from = t.own
		if t.given != "" && t.now == token {
			t.now = t.given
		}
	} else if t.own != "" && t.given != "" {
		if body, err := readToken(t.own); err == nil { // and in turn
			var k kept
			if json.Unmarshal([]byte(body), &k) == nil && k.Host == t.host {
				t.now = k.Token
			}
		}
	}
	return fmt.Errorf("the service does not know the token in %s: make one with `yamato host token make %s`, and name its file with --token-file", from, t.host)
}
