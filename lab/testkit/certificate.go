package testkit

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Certified is a certificate that is good for an hour, and its key, in files.
type Certified struct {
	File, Key string

	is  *x509.Certificate
	key *ecdsa.PrivateKey
}

// Certify writes a certificate for a name, as an authority signs it; nil for one that is an authority itself.
func Certify(t *testing.T, dir, name string, number int64, by *Certified) *Certified {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(number), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		BasicConstraintsValid: true, IsCA: by == nil,
	}
	c := &Certified{File: filepath.Join(dir, name+".pem"), Key: filepath.Join(dir, name+".key"), key: key}
	if by == nil {
		by = &Certified{is: template, key: key}
	}
	data, err := x509.CreateCertificate(rand.Reader, template, by.is, &key.PublicKey, by.key)
	if err != nil {
		t.Fatal(err)
	}
	if c.is, err = x509.ParseCertificate(data); err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for file, block := range map[string]*pem.Block{c.Key: {Type: "PRIVATE KEY", Bytes: private},
		c.File: {Type: "CERTIFICATE", Bytes: data}} {
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return c
}
