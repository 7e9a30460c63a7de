// Package certs is how the service shows who it is over TLS: with certificates from
// files, or one that it makes itself, whose public key clients and agents pin. It
// knows nothing of what is said over the connection.
package certs

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Names of the files of a certificate that the service made itself.
const (
	certFile = "service.crt"
	keyFile  = "service.key"
)

const (
	life    = 397 * 24 * time.Hour // browsers take none that is good for longer
	renewal = 60 * 24 * time.Hour  // before its end
)

// Files reads a certificate and its key from PEM files.
func Files(cert, key string) (tls.Certificate, error) {
	c, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return c, fmt.Errorf("certificate %s with key %s: %w", cert, key, err)
	}
	return c, nil
}

// SelfMade reads the certificate that was made in a directory, or makes one that is good
// for some names and addresses. Its key stays when it is made anew, and so does its pin.
func SelfMade(dir string, names []string, now time.Time) (tls.Certificate, error) {
	certPath, keyPath := filepath.Join(dir, certFile), filepath.Join(dir, keyFile)
	c, err := tls.LoadX509KeyPair(certPath, keyPath)
	if err == nil && c.Leaf != nil && now.Before(c.Leaf.NotAfter.Add(-renewal)) && covers(c.Leaf, names) {
		return c, nil
	}
	key, err := keyOf(keyPath)
	if err != nil {
		return c, fmt.Errorf("key of the service's certificate: %w", err)
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return c, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Parallel Pane service"}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(life), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return c, err
	}
	if err := os.WriteFile(certPath, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644); err != nil {
		return c, err
	}
	return tls.LoadX509KeyPair(certPath, keyPath)
}

func covers(c *x509.Certificate, names []string) bool {
	for _, n := range names {
		if c.VerifyHostname(n) != nil {
			return false
		}
	}
	return true
}

func keyOf(path string) (*ecdsa.PrivateKey, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalECPrivateKey(key)
		if err != nil {
			return nil, err
		}
		return key, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}), 0o600)
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(raw)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key", path)
	}
	return x509.ParseECPrivateKey(block.Bytes)
}

// prefix begins a pin.
const prefix = "sha256:"

// PinOf is the pin of a certificate: SHA-256 of its public key (RFC 7469, section 2.4),
// in hexadecimal.
func PinOf(c tls.Certificate) string {
	leaf, err := x509.ParseCertificate(c.Certificate[0])
	if err != nil {
		return ""
	}
	return pin(leaf)
}

// PinIn is the pin of the certificate that was made in a directory; "" if none was.
func PinIn(dir string) string {
	raw, err := os.ReadFile(filepath.Join(dir, certFile))
	if err != nil {
		return ""
	}
	if block, _ := pem.Decode(raw); block != nil {
		return PinOf(tls.Certificate{Certificate: [][]byte{block.Bytes}})
	}
	return ""
}

func pin(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return prefix + hex.EncodeToString(sum[:])
}

// Config is how a client finds out that it speaks to its service: by a pin, or for ""
// by the machine's certificate authorities.
func Config(want string) (*tls.Config, error) {
	if want == "" {
		return &tls.Config{MinVersion: tls.VersionTLS12}, nil
	}
	digits := strings.ToLower(strings.ReplaceAll(strings.TrimPrefix(want, prefix), ":", ""))
	if raw, err := hex.DecodeString(digits); err != nil || len(raw) != sha256.Size {
		return nil, fmt.Errorf("%q is not a pin: expected sha256: and 64 hexadecimal digits, as pane serve prints them", want)
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // the pin is verified instead
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 {
				return errors.New("the service showed no certificate")
			}
			if got := pin(s.PeerCertificates[0]); subtle.ConstantTimeCompare([]byte(got), []byte(prefix+digits)) != 1 {
				return fmt.Errorf("this is not the service that was pinned: its certificate has %s", got)
			}
			return nil
		}}, nil
}
