package appfile

import (
	"archive/zip"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/smallstep/pkcs7"
)

// Signing is how a package is signed. The certificate is read, not trusted:
// whether the signatures hold is for the device to decide.
type Signing struct {
	Schemes     []string  `json:"schemes"`     // v1, v2, v3, v3.1
	Subject     string    `json:"subject"`     // of the first signer's certificate (RFC 2253)
	Fingerprint string    `json:"fingerprint"` // SHA-256 of it, in hexadecimal digits
	Expires     time.Time `json:"expires"`
}

// Bounds on what is read of signatures.
const (
	maxSigningBlock = 16 << 20
	maxSignature    = 1 << 20 // bytes of one signature file
)

// Schemes of the signing block (source.android.com, "APK Signature Scheme v2", v3, v3.1).
var blockSchemes = map[uint32]string{0x7109871a: "v2", 0xf05368c0: "v3", 0x1b93ad61: "v3.1"}

const blockMagic = "APK Sig Block 42"

// androidSigning reads the signing block, which stands right before the zip's
// directory, and the signature files of the first scheme.
func androidSigning(r io.ReaderAt, archive *zip.Reader, directory int64) (*Signing, error) {
	s := &Signing{Schemes: []string{}}
	var certificate []byte
	if err := signingBlock(r, directory, func(id uint32, value []byte) error {
		scheme, ok := blockSchemes[id]
		if !ok {
			return nil
		}
		if !slices.Contains(s.Schemes, scheme) {
			s.Schemes = append(s.Schemes, scheme)
		}
		found, err := blockCertificate(value)
		if err != nil {
			return err
		}
		if certificate == nil || scheme == "v3" {
			certificate = found
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for _, f := range archive.File {
		dir, base := path.Split(f.Name)
		if dir != "META-INF/" || !slices.Contains([]string{".RSA", ".DSA", ".EC"}, strings.ToUpper(path.Ext(base))) {
			continue
		}
		data, err := readEntry(f, maxSignature)
		if err != nil {
			return nil, err
		}
		found, err := cmsCertificate(data)
		if err != nil {
			return nil, refuse(hintDamaged, "%s is no signature: %w", show(f.Name), err)
		}
		s.Schemes = append(s.Schemes, "v1")
		if certificate == nil {
			certificate = found
		}
		break
	}
	if len(s.Schemes) == 0 {
		return nil, nil
	}
	slices.Sort(s.Schemes)
	return s, s.state(certificate)
}

func (s *Signing) state(certificate []byte) error {
	c, err := x509.ParseCertificate(certificate)
	if err != nil {
		return refuse(hintDamaged, "the signer's certificate cannot be read: %w", err)
	}
	sum := sha256.Sum256(c.Raw)
	s.Fingerprint, s.Expires = hex.EncodeToString(sum[:]), c.NotAfter.UTC()
	s.Subject, err = text("signer's name", c.Subject.String(), 1000)
	return err
}

// signingBlock calls visit with each pair of the block before the directory at
// byte end, if there is one.
func signingBlock(r io.ReaderAt, end int64, visit func(id uint32, value []byte) error) error {
	var foot [24]byte
	if end < 32 {
		return nil
	}
	if _, err := r.ReadAt(foot[:], end-24); err != nil {
		return refuse(hintDamaged, "what stands before the zip's list of entries cannot be read: %w", err)
	}
	if string(foot[8:]) != blockMagic {
		return nil
	}
	size := int64(le64(foot[:]))
	if size < 24 || size > maxSigningBlock || size+8 > end {
		return refuse(hintDamaged, "the signing block claims %d bytes", size)
	}
	block := make([]byte, size-24)
	if _, err := r.ReadAt(block, end-size); err != nil {
		return refuse(hintDamaged, "the signing block cannot be read: %w", err)
	}
	for len(block) > 0 {
		if len(block) < 12 {
			return refuse(hintDamaged, "the signing block is cut short")
		}
		n := le64(block)
		if n < 4 || n > uint64(len(block)-8) {
			return refuse(hintDamaged, "a part of the signing block reaches past its end")
		}
		if err := visit(le32(block[8:]), block[12:8+n]); err != nil {
			return err
		}
		block = block[8+n:]
	}
	return nil
}

// blockCertificate gives the first certificate of the first signer: a sequence of
// signers, each with signed data, that with digests and then certificates, all
// with their lengths before them.
func blockCertificate(value []byte) ([]byte, error) {
	at := value
	for _, depth := range []string{"signers", "first signer", "signed data"} {
		var ok bool
		if at, _, ok = prefixed(at); !ok {
			return nil, refuse(hintDamaged, "the signing block's %s reach past the end", depth)
		}
	}
	_, rest, ok := prefixed(at) // digests
	certificates, _, ok2 := prefixed(rest)
	certificate, _, ok3 := prefixed(certificates)
	if !ok || !ok2 || !ok3 || len(certificate) == 0 {
		return nil, refuse(hintDamaged, "the signing block holds no certificate")
	}
	return certificate, nil
}

func prefixed(b []byte) (body, rest []byte, ok bool) {
	if len(b) < 4 {
		return nil, nil, false
	}
	n := int64(le32(b))
	if n > int64(len(b)-4) {
		return nil, nil, false
	}
	return b[4 : 4+n], b[4+n:], true
}

// cmsCertificate gives the certificate of a PKCS #7 signature (RFC 5652).
func cmsCertificate(data []byte) (certificate []byte, err error) {
	m, err := parseCMS(data)
	if err != nil {
		return nil, err
	}
	if c := m.GetOnlySigner(); c != nil {
		return c.Raw, nil
	}
	if len(m.Certificates) == 0 {
		return nil, errNoCertificate
	}
	return m.Certificates[0].Raw, nil
}

// parseCMS reads a PKCS #7 message. The parser's panics on malformed input count
// as refusals too.
func parseCMS(data []byte) (m *pkcs7.PKCS7, err error) {
	defer func() {
		if recover() != nil {
			m, err = nil, errMalformed
		}
	}()
	return pkcs7.Parse(data)
}
