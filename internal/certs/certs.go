// Package certs makes certificates for tests: an authority, a server, devices,
// and such as a platform must refuse. Keys are ECDSA on P-256, certificates as in
// RFC 5280, files in PEM (RFC 7468). None of it is for anything but tests: the
// authority's key lies beside the rest.
package certs

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"time"
)

// Pair is a certificate and its key, in PEM.
type Pair struct{ Cert, Key []byte }

// Authority signs certificates.
type Authority struct {
	Pair
	cert   *x509.Certificate
	key    *ecdsa.PrivateKey
	serial *big.Int
}

// Request says what a certificate is for.
type Request struct {
	Name     string   // common name
	Hosts    []string // names and addresses of a server
	Server   bool
	From, To time.Time
}

// NewAuthority makes an authority that is valid for a time.
func NewAuthority(name string, from, to time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, NotBefore: from,
		NotAfter: to,
		IsCA:     true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	a := &Authority{key: key, serial: big.NewInt(1)}
	if a.cert, err = x509.ParseCertificate(der); err != nil {
		return nil, err
	}
	a.Pair, err = encode(der, key)
	return a, err
}

func encode(der []byte, key *ecdsa.PrivateKey) (Pair, error) {
	k, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return Pair{}, err
	}
	return Pair{pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: k})}, nil
}

// Issue signs a certificate and gives its serial number.
func (a *Authority) Issue(r Request) (Pair, *big.Int, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Pair{}, nil, err
	}
	a.serial = new(big.Int).Add(a.serial, big.NewInt(1))
	t := &x509.Certificate{SerialNumber: a.serial, Subject: pkix.Name{CommonName: r.Name}, NotBefore: r.From,
		NotAfter: r.To,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	if r.Server {
		t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	}
	for _, h := range r.Hosts {
		if ip := net.ParseIP(h); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, h)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.cert, &key.PublicKey, a.key)
	if err != nil {
		return Pair{}, nil, err
	}
	p, err := encode(der, key)
	return p, a.serial, err
}

// Revoke makes a list of revoked certificates (RFC 5280, section 5), in PEM.
func (a *Authority) Revoke(at, next time.Time, serials ...*big.Int) ([]byte, error) {
	t := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: at, NextUpdate: next}
	for _, s := range serials {
		t.RevokedCertificateEntries = append(t.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: s, RevocationTime: at})
	}
	der, err := x509.CreateRevocationList(rand.Reader, t, a.cert, a.key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}), nil
}

// Make makes the files, by name, that a test of a platform's TLS needs; at least one
// host is wanted. They are, each as NAME.pem and NAME.key: ca, server, a pair for each client, and in refused/ the pairs that
// a platform must refuse from a client called name: expired, not-yet (valid),
// wrong-name, revoked (with crl.pem), stranger (of another authority); and for a
// client that must refuse a server: server-expired and server-wrong-name.
func Make(clients, hosts []string, now time.Time, valid time.Duration) (map[string][]byte, error) {
	from, to := now.Add(-time.Hour), now.Add(valid)
	ca, err := NewAuthority("Run Crowd test authority", from, to)
	if err != nil {
		return nil, err
	}
	files := map[string][]byte{}
	pair := func(name string, p Pair) { files[name+".pem"], files[name+".key"] = p.Cert, p.Key }
	pair("ca", ca.Pair)
	issue := func(a *Authority, file string, r Request) *big.Int {
		p, serial, issueErr := a.Issue(r)
		if issueErr != nil && err == nil {
			err = issueErr
		}
		pair(file, p)
		return serial
	}
	issue(ca, "server", Request{Name: hosts[0], Hosts: hosts, Server: true, From: from, To: to})
	for _, c := range clients {
		issue(ca, c, Request{Name: c, From: from, To: to})
	}
	name := "device"
	if len(clients) > 0 {
		name = clients[0]
	}
	past, future := now.Add(-30*24*time.Hour), now.Add(30*24*time.Hour)
	issue(ca, "refused/expired", Request{Name: name, From: past, To: now.Add(-24 * time.Hour)})
	issue(ca, "refused/not-yet", Request{Name: name, From: future, To: future.Add(valid)})
	issue(ca, "refused/wrong-name", Request{Name: "somebody-else", From: from, To: to})
	revoked := issue(ca, "refused/revoked", Request{Name: name, From: from, To: to})
	other, otherErr := NewAuthority("An authority nobody trusts", from, to)
	if otherErr != nil {
		return nil, otherErr
	}
	issue(other, "refused/stranger", Request{Name: name, From: from, To: to})
	issue(ca, "refused/server-expired", Request{Name: hosts[0], Hosts: hosts, Server: true, From: past,
		To: now.Add(-24 * time.Hour)})
	issue(ca, "refused/server-wrong-name", Request{Name: "elsewhere.example", Hosts: []string{"elsewhere.example"},
		Server: true, From: from, To: to})
	if err != nil {
		return nil, err
	}
	crl, err := ca.Revoke(now.Add(-time.Hour), to, revoked)
	if err != nil {
		return nil, fmt.Errorf("the list of revoked certificates: %w", err)
	}
	files["crl.pem"] = crl
	return files, nil
}
