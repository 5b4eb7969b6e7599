// Package certificate keeps an authority of the shop's own, which signs the certificate that its bench shows to
// browsers (RFC 5280). It is for a shop that has no other.
package certificate

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"time"

	"jadetrail/core/disk"
)

// How long they are good: browsers take no certificate that is good for longer than 398 days.
const (
	authorityFor = 10 * 365 * 24 * time.Hour
	hostFor      = 390 * 24 * time.Hour
	renewBefore  = 30 * 24 * time.Hour
)

// Own is a folder with an authority and what it has signed.
type Own struct {
	dir string
	now func() time.Time
}

// In returns the authority in a folder, which is made when it is first needed.
func In(dir string) *Own { return &Own{dir, time.Now} }

// AuthorityFile is what browsers are given, once, to trust the bench.
func (o *Own) AuthorityFile() string { return filepath.Join(o.dir, "authority.pem") }

func (o *Own) path(name string) string { return filepath.Join(o.dir, name) }

// For returns a certificate for hosts, names and addresses. One that was made before is taken while it is for the same
// hosts and not nearly over.
func (o *Own) For(hosts []string) (tls.Certificate, error) {
	if err := os.MkdirAll(o.dir, 0o700); err != nil {
		return tls.Certificate{}, err
	}
	authority, err := o.pair("authority", nil, func(x *x509.Certificate) bool { return x.IsCA })
	if err != nil {
		return tls.Certificate{}, err
	}
	return o.pair("bench", &signing{authority, hosts}, func(x *x509.Certificate) bool {
		var has []string
		has = append(has, x.DNSNames...)
		for _, ip := range x.IPAddresses {
			has = append(has, ip.String())
		}
		slices.Sort(has)
		want := slices.Clone(hosts)
		slices.Sort(want)
		return slices.Equal(has, slices.Compact(want)) && x.CheckSignatureFrom(authority.Leaf) == nil
	})
}

// signing is who signs a certificate, and for which hosts.
type signing struct {
	by    tls.Certificate
	hosts []string
}

// pair is the certificate of a name with its key: the one that lies there where it still will do, or a new one.
func (o *Own) pair(name string, by *signing, does func(*x509.Certificate) bool) (tls.Certificate, error) {
	certFile, keyFile := o.path(name+".pem"), o.path(name+".key")
	have, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err == nil && have.Leaf != nil && have.Leaf.NotAfter.Sub(o.now()) > renewBefore && does(have.Leaf) {
		return have, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return have, fmt.Errorf("%s cannot be read: %w", certFile, err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return have, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return have, err
	}
	x := &x509.Certificate{
		SerialNumber: serial, NotBefore: o.now().Add(-time.Hour),
		Subject: pkix.Name{CommonName: "Jade Trail, this bench's own authority"},
	}
	parent, signer := x, any(key)
	if by == nil {
		x.NotAfter, x.IsCA, x.BasicConstraintsValid, x.MaxPathLenZero = o.now().Add(authorityFor), true, true, true
		x.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageCRLSign
	} else {
		x.NotAfter, x.KeyUsage = o.now().Add(hostFor), x509.KeyUsageDigitalSignature
		x.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
		x.Subject = pkix.Name{CommonName: by.hosts[0]}
		for _, h := range by.hosts {
			if ip := net.ParseIP(h); ip != nil {
				x.IPAddresses = append(x.IPAddresses, ip)
			} else {
				x.DNSNames = append(x.DNSNames, h)
			}
		}
		parent, signer = by.by.Leaf, by.by.PrivateKey
	}
	der, err := x509.CreateCertificate(rand.Reader, x, parent, &key.PublicKey, signer)
	if err != nil {
		return have, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return have, err
	}
	// The key first: without it the certificate is nothing.
	if err := keep(keyFile, "PRIVATE KEY", secret); err != nil {
		return have, err
	}
	if err := keep(certFile, "CERTIFICATE", der); err != nil {
		return have, err
	}
	return tls.LoadX509KeyPair(certFile, keyFile)
}

// keep writes a file that only its owner reads.
func keep(path, kind string, der []byte) error {
	if err := disk.WriteDurably(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})); err != nil {
		return err
	}
	return os.Chmod(path, 0o600)
}
