package cli

import (
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"runcrowd/examples"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
	"runcrowd/internal/standin"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

func flawHelp() string {
	var b strings.Builder
	for _, n := range standin.FlawNames() {
		fmt.Fprintf(&b, "  %-18s %s\n", n, standin.FlawDoc(n))
	}
	return b.String()
}

// stormOnly tells whether a flaw falls on nothing that the plain demo does.
func stormOnly(f standin.Flaw) bool { return f.OfAlerts() || f.Name == "stale" || f.Name == "admit" }

func parseFlaws(texts []string) ([]standin.Flaw, error) {
	var list []standin.Flaw
	for _, t := range texts {
		f, err := standin.ParseFlaw(t)
		if err != nil {
			return nil, err
		}
		list = append(list, f)
	}
	return list, nil
}

func (e *env) demo() *cobra.Command {
	var o output
	var flaws []string
	var length string
	cmd := &cobra.Command{
		Use:   "demo [storm]",
		Short: "Play Skerry Roads against a platform that comes with the program",
		Long: `Demo starts the stand-in, a small simulated platform, inside the program, and plays the
harbour of Skerry Roads against it: 48 light buoys over MQTT and 6 tide gauges over HTTP
send for 10 seconds. Three things are proven of every message: it was acknowledged,
received and stored. Nothing needs to be installed.

Demo storm plays a bad night there, in half a minute: outages with backlog, a slow link,
restarts, a clock that drifts, and a wrong token that must not get in.

With --flaw the stand-in has a defect, and the demo shows that it is found:

` + flawHelp() + `
A flaw falls on 3 messages; with --flaw alter=5 on 5, with --flaw alter=2% on one of
fifty. --flaw delay=3@5s holds three back for five seconds. Those of alerts, admit and stale
are found by demo storm: the plain demo has no alerts, no wrong credentials and no backlog.`,
		Example: "  runcrowd demo\n  runcrowd demo --flaw lose --flaw alter=5\n  runcrowd demo storm --flaw stale --flaw " +
			"admit",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 || len(args) == 1 && args[0] != "storm" {
				return fmt.Errorf("there is no demo %q; there are demo and demo storm", strings.Join(args, " "))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := checkFormat(o.format); err != nil {
				return err
			}
			list, err := parseFlaws(flaws)
			if err != nil {
				return err
			}
			d, err := quantity.ParseDuration(length)
			if err != nil {
				return fmt.Errorf("--for: %w", err)
			}
			if d < 5*time.Second || d > time.Hour {
				return fmt.Errorf("--for: %s is outside 5s to 1h", length)
			}
			if len(args) == 1 {
				if cmd.Flags().Changed("for") {
					return errors.New("--for does not go with storm: its events are timed")
				}
				return e.playStorm(&o, list)
			}
			for _, f := range list {
				if stormOnly(f) {
					return fmt.Errorf("the flaw %q falls on nothing that this demo does; %s demo storm --flaw %s shows it", f.Name, e.program, f.Name)
				}
			}
			return e.playDemo(&o, list, d)
		},
	}
	o.flags(cmd)
	cmd.Flags().StringArrayVar(&flaws, "flaw", nil, "a defect of the platform, such as lose or alter=5 (may be given "+
		"more than once)")
	cmd.Flags().StringVar(&length, "for", "10s", "how long the devices send")
	return cmd
}

func (e *env) playDemo(o *output, flaws []standin.Flaw, length time.Duration) error {
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Flaws: flaws})
	if err != nil {
		return err
	}
	defer s.Close()
	text := strings.NewReplacer(examples.MQTTAddress, s.MQTTAddr, examples.HTTPAddress, s.HTTPAddr,
		"for: 10s", "for: "+quantity.FormatDuration(length)).Replace(examples.SkerryRoads)
	c, err := file.Parse("skerry-roads.crowd.yaml", []byte(text), file.Sources{Getenv: os.LookupEnv})
	if err != nil {
		return err
	}
	e.tellStandIn(s, o, flaws, fmt.Sprintf("48 light buoys and 6 tide gauges join and send for %s.\n\n",
		quantity.FormatDuration(length)))
	_, err = e.play(c, "(demo)", o, func(p *played) {
		if o.format != "text" {
			return
		}
		if len(flaws) > 0 {
			e.tellHits(s, flaws, p)
		}
		fmt.Fprintf(e.stdout, "\nWhat to try next\n")
		fmt.Fprintf(e.stdout, "  %s verify %s\n        judges the same evidence again\n", e.program, p.folder)
		if len(flaws) == 0 {
			fmt.Fprintf(e.stdout, "  %s demo --flaw lose --flaw alter\n        the same against a platform that loses and "+
				"alters messages\n", e.program)
		}
		fmt.Fprintf(e.stdout, "  %s new harbour\n        writes a first crowd file of your own\n", e.program)
		fmt.Fprintf(e.stdout, "The run folder is %s; the crowd file it played is in it.\n", p.folder)
	})
	return err
}

// tellStandIn says what is played, and against which platform.
func (e *env) tellStandIn(s *standin.StandIn, o *output, flaws []standin.Flaw, what string) {
	if o.format != "text" || o.quiet {
		return
	}
	fmt.Fprintf(e.stderr, "The stand-in platform is up: MQTT on %s, HTTP on %s.\n", s.MQTTAddr, s.HTTPAddr)
	for _, f := range flaws {
		fmt.Fprintf(e.stderr, "It has the flaw %s: it %s.\n", f.Name, f.Will())
	}
	fmt.Fprint(e.stderr, what)
}

// playStorm plays a bad night.
func (e *env) playStorm(o *output, flaws []standin.Flaw) error {
	token := rand.Text()
	hook, err := freeAddress()
	if err != nil {
		return err
	}
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", Flaws: flaws, Token: token,
		HookSecret: token, Hook: "http://" + hook + "/from-platform",
		Rules: []standin.Rule{{Name: "low-battery", Field: "battery_v", Below: true, Limit: 11, Release: 11.5}}})
	if err != nil {
		return err
	}
	defer s.Close()
	text := strings.NewReplacer(examples.MQTTAddress, s.MQTTAddr, examples.HTTPAddress, s.HTTPAddr, examples.HookAddress,
		hook).Replace(examples.Storm)
	c, err := file.Parse("storm.crowd.yaml", []byte(text), file.Sources{Getenv: func(name string) (string, bool) {
		if name == "HARBOUR_TOKEN" {
			return token, true
		}
		return os.LookupEnv(name)
	}})
	if err != nil {
		return err
	}
	e.tellStandIn(s, o, flaws, "40 light buoys and 6 tide gauges have a bad night of 26s.\n\n")
	_, err = e.play(c, "(demo storm)", o, func(p *played) {
		if o.format != "text" {
			return
		}
		if len(flaws) > 0 {
			e.tellHits(s, flaws, p)
		}
		fmt.Fprintf(e.stdout, "\nWhat to try next\n")
		fmt.Fprintf(e.stdout, "  HARBOUR_TOKEN=x %s preview %s/crowd.yaml --timeline\n        draws what happened to whom, "+
			"and when\n", e.program, p.folder)
		if len(flaws) == 0 {
			fmt.Fprintf(e.stdout, "  %s demo storm --flaw stale --flaw admit\n        the same against a platform that "+
				"discards what comes late, and lets strangers in\n", e.program)
		}
	})
	return err
}

// freeAddress is an address of this machine that nothing listens at.
func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// alertsOnly refuses flaws of alerts where there are none.
func alertsOnly(flaws []standin.Flaw, rules bool, what string) error {
	for _, f := range flaws {
		if f.OfAlerts() && !rules {
			return fmt.Errorf("the flaw %q falls on alerts, and this stand-in gives none; %s", f.Name, what)
		}
	}
	return nil
}

// tellHits holds what the stand-in did against what was found.
func (e *env) tellHits(s *standin.StandIn, flaws []standin.Flaw, p *played) {
	hits := s.Hits()
	const most = 20
	if slices.ContainsFunc(flaws, func(f standin.Flaw) bool { return f.Name == "admit" }) {
		fmt.Fprintf(e.stdout, "\nThe stand-in let in whoever showed wrong credentials: %s\n",
			plural(p.input.Result.Total[verdict.LetIn], "message")+" that should not have got in")
	}
	if alerts := s.AlertHits(); len(alerts) > 0 {
		fmt.Fprintf(e.stdout, "\nWhat the stand-in did to %s, and what was found\n", plural(len(alerts), "alert"))
		for i, h := range alerts {
			if i == most {
				fmt.Fprintf(e.stdout, "  … and %d more\n", len(alerts)-most)
				break
			}
			found := "nothing"
			for _, f := range p.input.Result.AlertFindings {
				if f.Device == h.Device && f.Alert == h.Rule {
					found = string(f.Verdict)
				}
			}
			fmt.Fprintf(e.stdout, "  %-8s %s %s: %s\n", h.Flaw, h.Device, h.Rule, found)
		}
	}
	if len(hits) == 0 {
		return
	}
	fmt.Fprintf(e.stdout, "\nWhat the stand-in did to %s, and what was found\n", plural(len(hits), "message"))
	for i, h := range hits {
		if i == most {
			fmt.Fprintf(e.stdout, "  … and %d more\n", len(hits)-most)
			break
		}
		var body struct {
			Mark string `json:"mark"`
		}
		m, err := ledger.Mark{}, json.Unmarshal(h.Payload, &body)
		if err == nil {
			m, err = ledger.ParseMark(body.Mark)
		}
		if err != nil {
			continue
		}
		found := verdictOf(p.input.Result, m.Device, m.Reading, m.Seq)
		if outOfOrder(p.input.Result, &m) {
			found += ", out of order"
		}
		if h.Flaw == "cut" && found == verdict.Proven.String() {
			found += ": it was sent again"
		}
		fmt.Fprintf(e.stdout, "  %-8s %s %s #%d: %s\n", h.Flaw, m.Device, m.Reading, m.Seq, found)
	}
}

// outOfOrder tells whether a message is known to have been found out of order.
func outOfOrder(r *tally.Result, m *ledger.Mark) bool {
	for _, b := range r.OutOfOrderAt {
		if b.Device == m.Device && b.Reading == m.Reading && slices.ContainsFunc(b.Ranges, func(x [2]uint64) bool {
			return x[0] <= m.Seq && m.Seq <= x[1]
		}) {
			return true
		}
	}
	return false
}

func (e *env) standin() *cobra.Command {
	var mqttAddr, httpAddr, wsAddr, tokenEnv, tlsDir, jwtDir, jwtEnv, oauthEnv, tokenLife string
	var tokenAsUser bool
	var clientCerts, registry, ownTopics bool
	var registryRate, connections int
	var flaws, rules []string
	var hook, hookEnv, alertTopic string
	cmd := &cobra.Command{
		Use:   "standin",
		Short: "Start the stand-in, a small simulated platform",
		Long: `Standin starts the simulated platform that the demo uses, alone, until Ctrl-C:
an MQTT broker, an HTTP intake, a store, and an API that reads it back. All of
it is in memory and gone when it stops.

  publish TOPIC              over MQTT 3.1.1 or 5, QoS 0, 1 or 2
  POST /in/TOPIC             over HTTP: JSON, or names and values (urlencoded)
  GET  /in/TOPIC?NAME=VALUE  the same, in the address
  GET  /stored               the devices that sent anything
  GET  /stored/DEVICE        what is stored; parameters: from, to, limit, after
  POST /publish/TOPIC        gives a command to a device that subscribed to TOPIC
  POST /commands/DEVICE      gives a command to a device that speaks HTTP
  GET  /commands/DEVICE      the device fetches its commands here
  POST /answers/DEVICE       and answers here
  GET  /answers/DEVICE       the answers of that device since the last time
  GET  /alerts              what it said by itself; parameter: after

What comes in is passed on to subscribers of TOPIC and stored under the device
and the reading that are the last two levels of TOPIC.

Without --token-env, --jwt-keys, --jwt-secret-env, --oauth-env and --registry no
credentials are checked. If several are set, any one of them is accepted. Over MQTT a
token is the password, or with --token-as-user the user name where there is no
password. Over HTTP it is in the header Authorization (Bearer), the password of
basic authentication, or access_token in the address.

With --rule it raises an alarm when a value passes a limit: once, and again after the
value has passed the release limit ("until"), or never again ("latched").
It publishes an alert at alerts/DEVICE and, with --hook, posts it to an address:
{"rule": "low-battery", "device": "buoy-001", "value": 10.9, "at": "…", "id": 1}

It can be told to have flaws:

` + flawHelp(),
		Example: "  runcrowd standin\n  runcrowd standin --mqtt 127.0.0.1:0 --flaw lose=5%\n  runcrowd standin --tls " +
			"harbour/certs --client-certs\n  runcrowd standin --jwt-keys harbour/certs --token-env PLATFORM_TOKEN --own-topics",
		Args: exactly(0, ""),
		RunE: func(*cobra.Command, []string) error {
			list, err := parseFlaws(flaws)
			if err != nil {
				return err
			}
			cfg := standin.Config{MQTT: mqttAddr, HTTP: httpAddr, WS: wsAddr, Flaws: list, Registry: registry,
				RegistryRate: registryRate}
			for _, text := range rules {
				rule, err := standin.ParseRule(text)
				if err != nil {
					return fmt.Errorf("--rule: %w", err)
				}
				cfg.Rules = append(cfg.Rules, rule)
			}
			if hook != "" && !strings.HasPrefix(hook, "http://") && !strings.HasPrefix(hook, "https://") {
				return fmt.Errorf("--hook: %q is no address; write one such as http://127.0.0.1:9099/from-platform", hook)
			}
			if err := alertsOnly(list, len(rules) > 0,
				`give it a rule: --rule "low-battery: battery_v < 11 until > 11.5"`); err != nil {
				return err
			}
			cfg.Hook, cfg.AlertTopic = hook, alertTopic
			cfg.JWTKeys, cfg.TokenAsUser, cfg.OwnTopics, cfg.Connections = jwtDir, tokenAsUser, ownTopics, connections
			if cfg.TokenLife, err = quantity.ParseDuration(tokenLife); err != nil || cfg.TokenLife < time.Second {
				return fmt.Errorf("--token-life: %q is not a time of a second or more, such as 1h", tokenLife)
			}
			if ownTopics && tokenEnv == "" {
				return errors.New("--own-topics goes with --token-env: a witness that shows that token may subscribe to everything")
			}
			for _, secret := range []struct {
				flag, name string
				into       *string
			}{{"--token-env", tokenEnv, &cfg.Token}, {"--hook-secret-env", hookEnv, &cfg.HookSecret},
				{"--jwt-secret-env", jwtEnv, &cfg.JWTSecret}, {"--oauth-env", oauthEnv, &cfg.OAuthSecret}} {
				if secret.name == "" {
					continue
				}
				if *secret.into = os.Getenv(secret.name); *secret.into == "" {
					return fmt.Errorf("%s: the environment variable %s is not set", secret.flag, secret.name)
				}
			}
			if clientCerts && tlsDir == "" {
				return errors.New("--client-certs goes with --tls")
			}
			if tlsDir != "" {
				if cfg.TLS, err = serverTLS(tlsDir, clientCerts); err != nil {
					return err
				}
			}
			return e.serve(cfg)
		},
	}
	cmd.Flags().StringVar(&mqttAddr, "mqtt", examples.MQTTAddress, "address of the broker; port 0 takes a free one")
	cmd.Flags().StringVar(&wsAddr, "ws", "", "address for MQTT over WebSocket; none if not given")
	cmd.Flags().StringVar(&tlsDir, "tls", "", "speak TLS, with server.pem and server.key of this folder (see certs)")
	cmd.Flags().BoolVar(&registry, "registry", false, "devices must be registered: POST /registry {\"name\": DEVICE} "+
		"gives the token that each must show")
	cmd.Flags().IntVar(&registryRate, "registry-rate", 0, "register at most this many devices a second")
	cmd.Flags().BoolVar(&clientCerts, "client-certs", false, "insist on certificates of ca.pem in that folder, and not "+
		"in crl.pem")
	cmd.Flags().StringVar(&httpAddr, "http", examples.HTTPAddress, "address of intake and API; port 0 takes a free one")
	cmd.Flags().StringArrayVar(&flaws, "flaw", nil, "a defect to have, such as lose or alter=5 (may be given more than "+
		"once)")
	cmd.Flags().StringArrayVar(&rules, "rule", nil, "say so by itself when a value passes a limit, such "+
		"as\n\"low-battery: battery_v < 11 until > 11.5\" (may be given more than once)")
	cmd.Flags().StringVar(&alertTopic, "alert-topic", "alerts", "publish alerts at this topic, followed by the device")
	cmd.Flags().StringVar(&hook, "hook", "", "post alerts to this address")
	cmd.Flags().StringVar(&hookEnv, "hook-secret-env", "", "sign what is posted with the secret in an environment "+
		"variable: X-Signature is\nthe HMAC-SHA256 of the body in hexadecimal")
	cmd.Flags().StringVar(&tokenEnv, "token-env", "", "want this token of every client, which stands in an environment "+
		"variable")
	cmd.Flags().StringVar(&jwtDir, "jwt-keys", "", "want JSON Web Tokens, signed with the key to DEVICE.pem of this "+
		"folder (see certs);\nsub is the device, and the connection ends when exp has come")
	cmd.Flags().StringVar(&jwtEnv, "jwt-secret-env", "", "want JSON Web Tokens, signed with the secret in an "+
		"environment variable")
	cmd.Flags().StringVar(&oauthEnv, "oauth-env", "", "want tokens of POST /token (OAuth 2.0, client credentials); the "+
		"secret of every\nclient stands in an environment variable")
	cmd.Flags().StringVar(&tokenLife, "token-life", "1h", "how long those tokens are good")
	cmd.Flags().BoolVar(&tokenAsUser, "token-as-user", false, "over MQTT, take the user name for the token where there "+
		"is no password")
	cmd.Flags().BoolVar(&ownTopics, "own-topics", false, "let a device publish and subscribe only where a level of the "+
		"topic is its name")
	cmd.Flags().IntVar(&connections, "connections", 0, "at most this many clients may connect over MQTT; 0: any number")
	return cmd
}

// wants says what a stand-in asks of those who come, without any secret.
func wants(cfg *standin.Config, secure string) []string {
	var tokens, lines []string
	if cfg.Token != "" {
		tokens = append(tokens, "the platform's own token")
	}
	if cfg.Registry {
		tokens = append(tokens, "the token that a device got at POST /registry")
	}
	if cfg.JWTKeys != "" || cfg.JWTSecret != "" {
		tokens = append(tokens, "a JSON Web Token of the device")
	}
	if cfg.OAuthSecret != "" {
		tokens = append(tokens, fmt.Sprintf("a token of POST /token, good for %s", quantity.FormatDuration(cfg.TokenLife)))
	}
	if len(tokens) > 0 {
		lines = append(lines, "wants "+strings.Join(tokens, ", or "))
	}
	if secure != "" && cfg.TLS.ClientAuth == tls.RequireAndVerifyClientCert {
		lines = append(lines, "insists on a certificate of its authority")
	}
	if cfg.OwnTopics {
		lines = append(lines, "lets a device use only topics with its name")
	}
	if cfg.Connections > 0 {
		lines = append(lines, fmt.Sprintf("lets in %d clients over MQTT", cfg.Connections))
	}
	return lines
}

func (e *env) serve(cfg standin.Config) error {
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, endSignals()...)
	defer signal.Stop(signals)
	s, err := standin.Start(cfg)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%w; stop what uses it, or take a free port: %s standin --mqtt 127.0.0.1:0 --http 127.0.0.1:0",
				err, e.program)
		}
		return err
	}
	defer s.Close()
	secure := ""
	if cfg.TLS != nil {
		secure = "s"
	}
	fmt.Fprintf(e.stdout, "The stand-in platform is up.\n  mqtt%s://%s   broker\n", secure, s.MQTTAddr)
	if s.WSAddr != "" {
		fmt.Fprintf(e.stdout, "  ws%s://%s   broker, over WebSocket\n", secure, s.WSAddr)
	}
	fmt.Fprintf(e.stdout, "  http%s://%s   intake at /in/TOPIC, read-back at /stored/DEVICE\n", secure, s.HTTPAddr)
	for _, line := range wants(&cfg, secure) {
		fmt.Fprintf(e.stdout, "  it %s\n", line)
	}
	for _, r := range cfg.Rules {
		fmt.Fprintf(e.stdout, "  rule %s\n", r)
	}
	for _, f := range cfg.Flaws {
		fmt.Fprintf(e.stdout, "  flaw %s: it %s\n", f.Name, f.Will())
	}
	fmt.Fprintln(e.stdout, "Ctrl-C stops it.")
	<-signals
	kept, dropped := s.Stored()
	fmt.Fprintf(e.stdout, "\nStopped. %d messages were stored", kept)
	if dropped > 0 {
		fmt.Fprintf(e.stdout, ", and %d came when the store was full", dropped)
	}
	fmt.Fprintf(e.stdout, "; flaws hit %d.\n", len(s.Hits())+len(s.AlertHits()))
	return nil
}
