package link_test

import (
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/certs"
	"runcrowd/internal/link"
)

// A device goes on with its TLS session when it comes again; another device, or the
// same with another configuration, does not.
func TestSessionsAreResumed(t *testing.T) {
	files, err := certs.Make([]string{"buoy-1"}, []string{"127.0.0.1"}, time.Now(), time.Hour)
	require.NoError(t, err)
	server, err := tls.X509KeyPair(files["server.pem"], files["server.key"])
	require.NoError(t, err)
	own, err := tls.X509KeyPair(files["buoy-1.pem"], files["buoy-1.key"])
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(files["ca.pem"])
	for _, version := range []uint16{tls.VersionTLS12, tls.VersionTLS13} {
		l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{server}, MaxVersion: version,
			ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: roots})
		require.NoError(t, err)
		defer l.Close()
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() { io.WriteString(c, "hello"); io.Copy(io.Discard, c); c.Close() }()
			}
		}()
		resumed := func(cfg *tls.Config) bool {
			nc, err := net.Dial("tcp", l.Addr().String())
			require.NoError(t, err)
			defer nc.Close()
			c := tls.Client(nc, cfg)
			_, err = io.ReadFull(c, make([]byte, 5)) // in 1.3 the ticket comes behind the handshake
			require.NoError(t, err)
			return c.ConnectionState().DidResume
		}
		way := &link.TLS{Roots: roots}
		device := way.Config("127.0.0.1", &own)
		assert.Equal(t, []bool{false, true, true}, []bool{resumed(device), resumed(device), resumed(device)}, "%x", version)
		assert.False(t, resumed(way.Config("127.0.0.1", &own)))
	}
}

func TestElsewhere(t *testing.T) {
	var none *link.TLS
	assert.Nil(t, none.Elsewhere())
	other := (&link.TLS{ServerName: "broker", ALPN: []string{"mqtt"}, MinVersion: tls.VersionTLS13,
		NoVerify: true}).Elsewhere()
	assert.Equal(t, &link.TLS{MinVersion: tls.VersionTLS13, NoVerify: true}, other)
	assert.Equal(t, "other", other.Config("other", nil).ServerName)
}
