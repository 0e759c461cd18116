package cli

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/internal/certs"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/folder"
	"runcrowd/internal/formula"
	"runcrowd/internal/link"
	"runcrowd/internal/quantity"
)

func (e *env) certs() *cobra.Command {
	var out, valid string
	var hosts []string
	cmd := &cobra.Command{
		Use:   "certs [FILE]",
		Short: "Make a test authority and a certificate for each device",
		Long: `Certs makes an authority for tests and signs a certificate for the platform, one
for each device of a crowd file and one for each subscribing witness. It touches
no platform and never writes over a file.

  ca.pem             the authority: tell the platform and, as ca:, the link to trust it
  server.pem, .key   for the platform, under the hosts of the crowd's links
  NAME.pem, .key     for the device or witness NAME: cert: certs/${device}.pem
  crl.pem            the list of revoked certificates
  refused/…          what must be refused: expired, not-yet, wrong-name, revoked and
                     stranger (of another authority) for a device, server-expired
                     and server-wrong-name for the platform

Files with keys can be read by their owner alone.`,
		Example: "  runcrowd certs harbour/crowd.yaml\n  runcrowd standin --tls harbour/certs --client-certs",
		Args:    oneCrowd,
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := quantity.ParseDuration(valid)
			if err != nil || d < time.Minute {
				return fmt.Errorf("--valid: %q is not a time of a minute or more, such as 90d", valid)
			}
			if out == "" {
				out = filepath.Join(filepath.Dir(crowdFile(args)), "certs")
			}
			return e.makeCerts(crowdFile(args), out, hosts, d)
		},
	}
	cmd.Flags().StringVarP(&out, "out", "o", "", "folder in which they are made; certs beside the crowd file if not given")
	cmd.Flags().StringArrayVar(&hosts, "host", nil, "another name or address of the platform (may be given more than "+
		"once)")
	cmd.Flags().StringVar(&valid, "valid", "90d", "how long they are valid")
	return cmd
}

func (e *env) makeCerts(path, out string, hosts []string, valid time.Duration) error {
	source, err := folder.ReadFile(path)
	if err != nil {
		_, err = file.Load(path) // tells why in its own words
		return err
	}
	c, err := file.Parse(path, source, file.Sources{Getenv: os.LookupEnv, WithoutCertificates: true})
	if err != nil {
		return err
	}
	f, err := fleet.Build(c, nil)
	if err != nil {
		return err
	}
	var clients []string
	for _, d := range f.Devices {
		if d.Name != filepath.Base(d.Name) || d.Name == "ca" || d.Name == "server" || d.Name == "bad" || d.Name == "crl" {
			return fmt.Errorf("the device name %q cannot be the name of a file here; give certs by hand to this device", d.Name)
		}
		clients = append(clients, d.Name)
	}
	for _, w := range c.Witnesses {
		if w.Link != nil {
			clients = append(clients, w.Name)
		}
	}
	known := map[string]bool{}
	var all []string
	add := func(h string) {
		if h != "" && !known[h] {
			known[h] = true
			all = append(all, h)
		}
	}
	for _, h := range hosts {
		add(h)
	}
	for _, l := range c.AllLinks() {
		if l.Protocol == crowd.MQTT {
			add(link.Host(l.Address))
		} else if u, err := url.Parse(l.Address); err == nil {
			add(u.Hostname())
		}
	}
	for _, h := range []string{"localhost", "127.0.0.1", "::1"} {
		add(h)
	}
	files, err := certs.Make(clients, all, time.Now(), valid)
	if err != nil {
		return err
	}
	if err := writeFiles(out, files); err != nil {
		return err
	}
	fmt.Fprintf(e.stdout, "Made an authority, a server's certificate for %s, and %s in %s, valid for %s.\n\n",
		formula.List(all), plural(len(clients), "client certificate"), out, quantity.FormatDuration(valid))
	rel, err := filepath.Rel(filepath.Dir(path), out)
	if err != nil {
		rel = out
	}
	fmt.Fprintf(e.stdout, "Use them in a link (mqtts, wss, https):\n  tls: {ca: %s, cert: \"%s\", key: \"%s\"}\n\n",
		filepath.Join(rel, "ca.pem"), filepath.Join(rel, "${device}.pem"), filepath.Join(rel, "${device}.key"))
	fmt.Fprintf(e.stdout, "Try them on the stand-in:\n  %s standin --tls %s --client-certs\n", e.program, out)
	return nil
}

// serverTLS is how the stand-in speaks TLS with a folder of certs.
func serverTLS(dir string, clients bool) (*tls.Config, error) {
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, "server.pem"), filepath.Join(dir, "server.key"))
	if err != nil {
		return nil, fmt.Errorf("--tls: %w; make the folder with: runcrowd certs FILE", err)
	}
	cfg := &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	if !clients {
		return cfg, nil
	}
	ca, err := folder.ReadFile(filepath.Join(dir, "ca.pem"))
	if err != nil {
		return nil, fmt.Errorf("--client-certs: %w", err)
	}
	cfg.ClientCAs, cfg.ClientAuth = x509.NewCertPool(), tls.RequireAndVerifyClientCert
	if !cfg.ClientCAs.AppendCertsFromPEM(ca) {
		return nil, fmt.Errorf("--client-certs: %s holds no certificate", filepath.Join(dir, "ca.pem"))
	}
	list, err := folder.ReadFile(filepath.Join(dir, "crl.pem"))
	if err != nil {
		return cfg, nil // nobody is revoked
	}
	block, _ := pem.Decode(list)
	if block == nil {
		return nil, fmt.Errorf("--client-certs: %s is no list of revoked certificates in PEM", filepath.Join(dir, "crl.pem"))
	}
	crl, err := x509.ParseRevocationList(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("--client-certs: %s: %w", filepath.Join(dir, "crl.pem"), err)
	}
	cfg.VerifyConnection = func(s tls.ConnectionState) error {
		for _, c := range s.PeerCertificates[:min(1, len(s.PeerCertificates))] {
			for _, r := range crl.RevokedCertificateEntries {
				if bytes.Equal(r.SerialNumber.Bytes(), c.SerialNumber.Bytes()) {
					return tls.AlertError(44) // certificate_revoked (RFC 8446, section 6.2)
				}
			}
		}
		return nil
	}
	return cfg, nil
}
