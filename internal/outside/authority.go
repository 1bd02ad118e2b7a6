package outside

import (
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
)

// largestAuthority bounds a file of certificates, in bytes.
const largestAuthority = 1 << 20

// ReadAuthorities reads the certificates of authorities from a PEM file (RFC 7468). Its errors say what is wrong with
// it: no certificate in it, one that cannot be read, one that may sign no others.
func ReadAuthorities(path string) ([]*x509.Certificate, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("the certificates of an authority cannot be read: %w", err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, largestAuthority+1))
	if err != nil {
		return nil, fmt.Errorf("the certificates of an authority cannot be read: %w", err)
	}
	if len(data) > largestAuthority {
		return nil, fmt.Errorf("%s is longer than certificates are", path)
	}
	var out []*x509.Certificate
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		if block.Type != "CERTIFICATE" {
			return nil, fmt.Errorf("%s holds a %s beside certificates; name a file with certificates alone", path,
				block.Type)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("%s: certificate %d cannot be read: %w", path, len(out)+1, err)
		}
		if !c.IsCA {
			return nil, fmt.Errorf("%s: certificate %d (%s) is no authority's: it may sign no others", path, len(out)+1,
				c.Subject)
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s holds no certificate in PEM form (-----BEGIN CERTIFICATE-----)", path)
	}
	return out, nil
}

// Trusted gives the authorities of this machine and those in files beside them; nil, which stands for the machine's,
// where no file is named.
func Trusted(files ...string) (*x509.CertPool, error) {
	if len(files) == 0 {
		return nil, nil
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	var wrong error
	for _, path := range files {
		certificates, err := ReadAuthorities(path)
		wrong = errors.Join(wrong, err)
		for _, c := range certificates {
			pool.AddCert(c)
		}
	}
	return pool, wrong
}
