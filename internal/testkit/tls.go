package testkit

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Authority makes a CA and a certificate of its own for 127.0.0.1, as PEM files that a
// server's user owns: servers refuse keys of others. It gives the CA's certificate.
func Authority(t testing.TB, dir, owner string) (ca string) {
	t.Helper()
	issue := func(name string, template, parent *x509.Certificate, signer *ecdsa.PrivateKey) (*x509.Certificate,
		*ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		if parent == nil {
			parent, signer = template, key
		}
		der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, signer)
		require.NoError(t, err)
		secret, err := x509.MarshalECPrivateKey(key)
		require.NoError(t, err)
		write(t, owner, filepath.Join(dir, name+".crt"),
			pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
		write(t, owner, filepath.Join(dir, name+".key"),
			pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}))
		certificate, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return certificate, key
	}
	valid := x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), BasicConstraintsValid: true}
	root := valid
	root.Subject, root.IsCA, root.KeyUsage = pkix.Name{CommonName: "the region's own CA"}, true, x509.KeyUsageCertSign
	caCertificate, caKey := issue("ca", &root, nil, nil)
	server := valid
	server.SerialNumber, server.Subject, server.IPAddresses = big.NewInt(2), pkix.Name{CommonName: "a library"},
		[]net.IP{net.ParseIP("127.0.0.1")}
	issue("server", &server, caCertificate, caKey)
	content, err := os.ReadFile(filepath.Join(dir, "ca.crt"))
	require.NoError(t, err)
	return string(content)
}

func write(t testing.TB, owner, path string, content []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, content, 0o600))
	if os.Getuid() == 0 {
		u, err := user.Lookup(owner)
		require.NoError(t, err)
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		require.NoError(t, os.Chown(path, uid, gid))
	}
}

// Certificate makes a certificate for a name or an address that signs itself, in PEM.
func Certificate(t testing.TB, name string) (certificate, key []byte) {
	t.Helper()
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		DNSNames: []string{name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	if ip := net.ParseIP(name); ip != nil {
		template.IPAddresses = []net.IP{ip}
	}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &secret.PublicKey, secret)
	require.NoError(t, err)
	encoded, err := x509.MarshalECPrivateKey(secret)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: encoded})
}
