package pack

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"fmt"
	"math/big"

	"howett.net/plist"
)

// signer is an app's key. It is no secret: it signs nothing but apps for stand-ins, and
// must be the same each time so that packing is repeatable and a version updates another.
func signer(a App) (*ecdsa.PrivateKey, []byte, error) {
	curve := elliptic.P256()
	seed := sha256.Sum256([]byte(a.Key))
	key, err := ecdsa.ParseRawPrivateKey(curve, seed[:])
	if err != nil {
		return nil, nil, err
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{Organization: []string{a.Maker},
		CommonName: a.Name + " release"},
		NotBefore: packed, NotAfter: packed.AddDate(25, 0, 0)}
	certificate, err := x509.CreateCertificate(nil, of, of, &key.PublicKey, key) // no chance: RFC 6979
	return key, certificate, err
}

// signAndroid signs a package by the second scheme of signatures
// (source.android.com, "APK Signature Scheme v2"): a block between the zip's
// entries and its directory.
func signAndroid(a App, data []byte) ([]byte, error) {
	key, certificate, err := signer(a)
	if err != nil {
		return nil, fmt.Errorf("making the key: %w", err)
	}
	le := binary.LittleEndian
	end := len(data) - 22
	start := int(le.Uint32(data[end+16:]))
	const ecdsaSHA256 = 0x0201
	digest := chunkedDigest(data[:start], data[start:end], data[end:])
	digests := prefix(prefix(append(le.AppendUint32(nil, ecdsaSHA256), prefix(digest)...)))
	signed := append(append(digests, prefix(prefix(certificate))...), prefix(nil)...)
	sum := sha256.Sum256(signed)
	signature, err := key.Sign(nil, sum[:], crypto.SHA256)
	if err != nil {
		return nil, err
	}
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return nil, err
	}
	signatures := prefix(prefix(append(le.AppendUint32(nil, ecdsaSHA256), prefix(signature)...)))
	one := append(append(prefix(signed), signatures...), prefix(public)...)
	value := prefix(prefix(one))
	pair := le.AppendUint64(nil, uint64(4+len(value)))
	pair = append(le.AppendUint32(pair, 0x7109871a), value...)
	size := uint64(len(pair) + 24)
	block := append(le.AppendUint64(nil, size), pair...)
	block = append(le.AppendUint64(block, size), "APK Sig Block 42"...)
	out := append(bytes.Clone(data[:start]), block...)
	out = append(out, data[start:]...)
	le.PutUint32(out[len(out)-22+16:], uint32(start+len(block)))
	return out, nil
}

func prefix(b []byte) []byte {
	return append(binary.LittleEndian.AppendUint32(nil, uint32(len(b))), b...)
}

// chunkedDigest is the digest of the digests of all chunks of a megabyte.
func chunkedDigest(sections ...[]byte) []byte {
	var sums []byte
	n := uint32(0)
	for _, s := range sections {
		for len(s) > 0 {
			part := s[:min(len(s), 1<<20)]
			s = s[len(part):]
			sum := sha256.Sum256(append(binary.LittleEndian.AppendUint32([]byte{0xa5}, uint32(len(part))), part...))
			sums = append(sums, sum[:]...)
			n++
		}
	}
	all := sha256.Sum256(append(binary.LittleEndian.AppendUint32([]byte{0x5a}, n), sums...))
	return all[:]
}

// profile makes an embedded provisioning profile: a property list in a PKCS #7
// message (RFC 5652) that nobody has signed, as nobody will check it here.
func profile(a App) ([]byte, error) {
	_, certificate, err := signer(a)
	if err != nil {
		return nil, err
	}
	list, err := plist.Marshal(map[string]any{
		"Name": a.Name + " ad hoc", "AppIDName": a.Name, "TeamName": a.Maker, "TeamIdentifier": []string{"SORANE0001"},
		"ExpirationDate":     a.Profile,
		"ProvisionedDevices": a.Devices, "DeveloperCertificates": [][]byte{certificate},
		"Entitlements": map[string]any{"application-identifier": "SORANE0001." + a.ID, "aps-environment": "development",
			"get-task-allow": true},
	}, plist.XMLFormat)
	if err != nil {
		return nil, err
	}
	type content struct {
		Type asn1.ObjectIdentifier
		Body asn1.RawValue `asn1:"explicit,tag:0"`
	}
	body, err := asn1.Marshal(list)
	if err != nil {
		return nil, err
	}
	data, signed := asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}, asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	inner, err := asn1.Marshal(struct {
		Version int
		Digests []asn1.RawValue `asn1:"set"`
		Content content
		Certs   asn1.RawValue
		Signers []asn1.RawValue `asn1:"set"`
	}{1, []asn1.RawValue{}, content{data, explicit(body)}, explicit(certificate), []asn1.RawValue{}})
	if err != nil {
		return nil, err
	}
	return asn1.Marshal(content{signed, explicit(inner)})
}

func explicit(body []byte) asn1.RawValue {
	return asn1.RawValue{Class: asn1.ClassContextSpecific, Tag: 0, IsCompound: true, Bytes: body}
}
