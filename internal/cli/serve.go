package cli

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"ivytable.example/ivytable/console"
	"ivytable.example/ivytable/internal/demo"
	"ivytable.example/ivytable/internal/demo/postoffice"
	"ivytable.example/ivytable/internal/demo/resolver"
	"ivytable.example/ivytable/internal/httpapi"
	"ivytable.example/ivytable/internal/localdb"
	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/work"
	"ivytable.example/ivytable/internal/workspace"
)

// garbage is by how much of what is in use the memory grows before it is tidied: most of what a message needs lives for some milliseconds,
// and what is kept for long is small, so that to tidy at each doubling would cost more than the messages.
const garbage = 200

// version is what the interface says it is.
const version = "0.1.0"

// daemon is the settings of serve and demo.
type daemon struct {
	listen, smtpListen, submissionListen, submissionTLSListen, metricsListen string
	data, dsn, publicURL, mailName, logLevel, logFormat, resolver            string
	tlsCert, tlsKey                                                          string
	relay, relays, relayNames, proxies                                       []string
	relayTLS, relayCA, relayUser, relayPassword                              string
	lmtpListen                                                               string
	connections, bySource                                                    int
}

func (s *daemon) flags(c *cobra.Command, metrics, data, level string) {
	f := c.Flags()
	f.StringVar(&s.listen, "listen", "127.0.0.1:8480", "where the console and the interface listen")
	f.StringVar(&s.smtpListen, "smtp-listen", "127.0.0.1:2525", "where mail for groups comes in")
	f.StringVar(&s.submissionListen, "submission-listen", "", "where people's mail programs send after STARTTLS, such as :587; empty: nowhere")
	f.StringVar(&s.submissionTLSListen, "submission-tls-listen", "", "the same within TLS from the start, such as :465; empty: nowhere")
	f.StringVar(&s.lmtpListen, "lmtp-listen", "", "where a mail system hands mail for groups on by LMTP (RFC 2033), such as 127.0.0.1:2424; empty: nowhere")
	f.StringVar(&s.tlsCert, "tls-cert", "", "file with the certificate for mail, PEM; read again when it changes")
	f.StringVar(&s.tlsKey, "tls-key", "", "file with its key, PEM")
	f.StringSliceVar(&s.relays, "trusted-relays", []string{"127.0.0.0/8", "::1"}, "addresses of relays that take mail in for the workspace")
	f.StringSliceVar(&s.relayNames, "trusted-relay-names", nil, "names under which these relays stand in Received and say in Authentication-Results who wrote a message (RFC 8601); of no other is it believed")
	f.StringSliceVar(&s.proxies, "trusted-proxies", nil, "addresses of proxies before the console whose X-Forwarded-For is believed")
	f.IntVar(&s.connections, "smtp-connections", mail.DefaultLimits.Connections, "SMTP connections in all")
	f.IntVar(&s.bySource, "smtp-connections-by-source", mail.DefaultLimits.BySource, "SMTP connections of one source, but for trusted relays")
	f.StringVar(&s.metricsListen, "metrics-listen", metrics, "where figures for Prometheus are served, for yourselves alone; empty: nowhere")
	f.StringVar(&s.data, "data", data, "folder for what is kept here")
	f.StringVar(&s.dsn, "dsn", "", "database to use, USER:PASSWORD@tcp(HOST:PORT)/NAME (default: a private one in the data folder)")
	f.StringVar(&s.publicURL, "public-url", "", "address at which people reach the console (default: http:// and --listen)")
	f.StringVar(&s.mailName, "mail-name", "localhost", "name by which we greet in SMTP")
	f.StringVar(&s.resolver, "resolver", "", "what is asked about mail domains (DNS), HOST:PORT (default: what the machine asks)")
	f.StringVar(&s.logLevel, "log-level", level, "debug, info, warn or error")
	f.StringVar(&s.logFormat, "log-format", "text", "text or json")
	markSettings(f)
}

func (s *daemon) logger(to io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(s.logLevel)); err != nil {
		return nil, usagef("--log-level can't be %q: choose debug, info, warn, error", s.logLevel)
	}
	switch o := (&slog.HandlerOptions{Level: level}); s.logFormat {
	case "text":
		return slog.New(slog.NewTextHandler(to, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(to, o)), nil
	}
	return nil, usagef("--log-format can't be %q: choose text, json", s.logFormat)
}

// open opens the records: of the database of --dsn, or of a private one that close stops.
func (s *daemon) open(ctx context.Context) (pool *store.Pool, close func(), err error) {
	dsn, stop := s.dsn, func() {}
	if dsn == "" {
		db, err := localdb.Start(ctx, localdb.Options{Dir: s.data})
		if err != nil {
			return nil, nil, err
		}
		dsn, stop = db.DSN, db.Stop
	}
	if pool, err = store.Open(ctx, dsn); err != nil {
		stop()
		return nil, nil, err
	}
	return pool, func() { pool.Close(); stop() }, nil
}

// serve runs the service on its listeners until ctx ends, then lets requests,
// SMTP sessions and deliveries finish for up to ten seconds. ready is called when
// it answers.
func (s *daemon) serve(ctx context.Context, pool *store.Pool, log *slog.Logger, isDemo bool, ready func()) error {
	web, err := net.Listen("tcp", s.listen)
	if err != nil {
		return fmt.Errorf("listen for the console (--listen): %w", err)
	}
	defer web.Close()
	smtp, err := net.Listen("tcp", s.smtpListen)
	if err != nil {
		return fmt.Errorf("listen for mail (--smtp-listen): %w", err)
	}
	defer smtp.Close()
	var figures net.Listener
	if s.metricsListen != "" {
		if figures, err = net.Listen("tcp", s.metricsListen); err != nil {
			return fmt.Errorf("listen for figures (--metrics-listen): %w", err)
		}
		defer figures.Close()
	}
	if s.publicURL == "" {
		s.publicURL = "http://" + web.Addr().String()
	}
	pages, err := console.Handler()
	if err != nil {
		return err
	}
	every := 30 * time.Second
	if isDemo {
		every = time.Second // the clock can jump
	}
	relays, err := prefixes("--trusted-relays", s.relays)
	if err != nil {
		return err
	}
	proxies, err := prefixes("--trusted-proxies", s.proxies)
	if err != nil {
		return err
	}
	debug.SetGCPercent(garbage)
	out, err := s.mailLeaves()
	if err != nil {
		return err
	}
	runner := work.New(work.Options{Relays: out, ExpiryEvery: every, Log: log})
	all, err := service.New(ctx, pool, workspace.Options{PublicURL: s.publicURL, Wake: runner.Wake, Demo: isDemo, Resolver: s.asks()})
	if err != nil {
		return err
	}
	if err := all.Life.Run(ctx); err != nil { // so that nobody is cut off because the service was away
		return fmt.Errorf("look after the groups: %w", err)
	}
	u, _ := url.Parse(s.publicURL)
	routes, _ := httpapi.Routes(all, httpapi.Options{Log: log, Console: pages, Secure: u != nil && u.Scheme == "https", Version: version, Proxies: proxies})
	hs := &http.Server{Handler: routes, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute}
	fs := &http.Server{Handler: httpapi.Metrics(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute}
	in, err := s.mailListeners(smtp)
	if err != nil {
		return err
	}
	defer func() {
		for l := range in {
			l.Close()
		}
	}()
	ms, err := s.mailServer(all, log, relays)
	if err != nil {
		return err
	}

	g, ctx := errgroup.WithContext(ctx)
	serve := func(s *http.Server, l net.Listener) {
		g.Go(func() error {
			if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		})
	}
	serve(hs, web)
	if figures != nil {
		serve(fs, figures)
	}
	for l, way := range in {
		g.Go(func() error { return ms.Serve(l, way) })
	}
	g.Go(func() error { runner.Run(ctx, all); return nil })
	g.Go(func() error {
		<-ctx.Done()
		last, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		var stops sync.WaitGroup
		stops.Go(func() { _ = hs.Shutdown(last) })
		stops.Go(func() { _ = fs.Shutdown(last) })
		stops.Go(func() { ms.Shutdown(last) })
		stops.Wait()
		return nil
	})
	log.Info("ready", "console", s.publicURL, "smtp", smtp.Addr().String(), "relay", s.relay)
	ready()
	return g.Wait()
}

// mailLeaves is where mail leaves, and how.
func (s *daemon) mailLeaves() (*mail.Relays, error) {
	r := &mail.Relays{Addrs: s.relay, Domain: s.mailName, User: s.relayUser}
	if err := r.Check(); err != nil {
		return nil, usagef("--relay: %v", err)
	}
	var err error
	if r.Security, err = mail.ParseSecurity(s.relayTLS); err != nil {
		return nil, usagef("--relay-tls: %v", err)
	}
	if s.relayCA != "" {
		pem, err := os.ReadFile(s.relayCA)
		if err != nil {
			return nil, fmt.Errorf("read the certificates of --relay-ca: %w", err)
		}
		r.Roots = x509.NewCertPool()
		if !r.Roots.AppendCertsFromPEM(pem) {
			return nil, usagef("--relay-ca: %s holds no certificate in PEM", s.relayCA)
		}
		if r.Security == mail.Never {
			return nil, usagef("--relay-ca says whom to believe, and --relay-tls never asks nobody: leave one of them out")
		}
	}
	if s.relayUser == "" != (s.relayPassword == "") {
		return nil, usagef("--relay-user and --relay-password-file belong together")
	}
	if s.relayUser != "" {
		b, err := os.ReadFile(s.relayPassword)
		if err != nil {
			return nil, fmt.Errorf("read the password of --relay-password-file: %w", err)
		}
		r.Password = strings.TrimRight(string(b), "\r\n")
	}
	return r, nil
}

// asks is what is asked about mail domains; nil for what the machine asks.
func (s *daemon) asks() workspace.Resolver {
	if s.resolver == "" {
		return nil
	}
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, s.resolver)
	}}
}

// mailListeners listens for mail from people, beside that of smtp.
func (s *daemon) mailListeners(smtp net.Listener) (map[net.Listener]mail.Way, error) {
	out := map[net.Listener]mail.Way{smtp: mail.Transfer}
	if s.lmtpListen != "" {
		l, err := net.Listen("tcp", s.lmtpListen)
		if err != nil {
			return out, fmt.Errorf("listen for mail by LMTP (--lmtp-listen): %w", err)
		}
		out[l] = mail.Local
	}
	for _, x := range []struct {
		flag, at string
		way      mail.Way
	}{{"--submission-listen", s.submissionListen, mail.Submission}, {"--submission-tls-listen", s.submissionTLSListen, mail.Implicit}} {
		if x.at == "" {
			continue
		}
		if s.tlsCert == "" {
			return out, usagef("%s needs a certificate: give --tls-cert and --tls-key", x.flag)
		}
		l, err := net.Listen("tcp", x.at)
		if err != nil {
			return out, fmt.Errorf("listen for people's mail programs (%s): %w", x.flag, err)
		}
		out[l] = x.way
	}
	return out, nil
}

// mailServer makes what takes mail in.
func (s *daemon) mailServer(all *service.Service, log *slog.Logger, relays []netip.Prefix) (*mail.Server, error) {
	o := mail.Options{Domain: s.mailName, Spool: filepath.Join(s.data, "spool"), Relays: relays, Limits: mail.DefaultLimits, Log: log}
	for _, name := range s.relayNames {
		if name = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(name), ".")); name == "" || strings.ContainsAny(name, " \t;=()\"") {
			return nil, fmt.Errorf("--trusted-relay-names: %q is no name of a relay, such as mx.merrowline.example", name)
		}
		o.Names = append(o.Names, name)
	}
	o.Limits.Connections, o.Limits.BySource = s.connections, s.bySource
	_ = os.RemoveAll(o.Spool) // what came in when the service died was never answered
	if err := os.MkdirAll(o.Spool, 0o700); err != nil {
		return nil, fmt.Errorf("make a folder for what comes in (--data): %w", err)
	}
	if s.tlsCert != "" || s.tlsKey != "" {
		c, err := mail.LoadCertificate(s.tlsCert, s.tlsKey, log)
		if err != nil {
			return nil, err
		}
		o.TLS = c.TLS()
	}
	return mail.NewServer(all, o), nil
}

// prefixes reads addresses and ranges of them, such as 192.0.2.0/24.
func prefixes(flag string, given []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, g := range given {
		p, err := netip.ParsePrefix(g)
		if a, no := netip.ParseAddr(g); no == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return nil, usagef("%s can't be %q: give addresses, or ranges such as 192.0.2.0/24", flag, g)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

func (a *app) serveCommand() *cobra.Command {
	var s daemon
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		Long: "Run the service until it is interrupted. Every setting can be given in the environment\ntoo, as IVYTABLE_ and its name in capitals, or in the file of --config.",
		Example: "  ivytable serve --data /var/lib/ivytable --relay 127.0.0.1:25 --public-url https://groups.merrowline.example\n" +
			"  IVYTABLE_DSN='ivytable:…@tcp(127.0.0.1:3306)/ivytable' ivytable serve --relay 127.0.0.1:25",
		RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := s.logger(a.err)
			if err != nil {
				return err
			}
			if len(s.relay) == 0 {
				return usagef("say where mail goes out, with --relay HOST:PORT")
			}
			pool, stop, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer stop()
			return s.serve(cmd.Context(), pool, log, false, func() {})
		},
	}
	s.flags(c, "127.0.0.1:8483", "data", "info")
	c.Flags().StringSliceVar(&s.relay, "relay", nil, "mail systems to send through, HOST:PORT, or lmtp:HOST:PORT for one that speaks LMTP; with several, the first that can be reached")
	c.Flags().StringVar(&s.relayTLS, "relay-tls", "opportunistic", "TLS with them: opportunistic, required or never; with --relay-ca it is required")
	c.Flags().StringVar(&s.relayCA, "relay-ca", "", "file with the certificates that alone are believed to say who they are, PEM")
	c.Flags().StringVar(&s.relayUser, "relay-user", "", "name to sign in with")
	c.Flags().StringVar(&s.relayPassword, "relay-password-file", "", "file with its password")
	markSettings(c.Flags())
	c.AddCommand(a.firstCommand())
	return c
}

// firstCommand sets up an empty workspace.
func (a *app) firstCommand() *cobra.Command {
	var s daemon
	var domains []string
	var name string
	c := &cobra.Command{
		Use: "first-administrator ADDRESS", Short: "Set up an empty workspace: its domains and its first administrator", Args: cobra.ExactArgs(1),
		Long:    "Set up an empty workspace. The password is asked for, or read from standard input. The\nservice must not be running on the data folder.",
		Example: "  ivytable serve first-administrator ines.skerry@merrowline.example --name \"Ines Skerry\" --domain merrowline.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, domain, _ := strings.Cut(args[0], "@"); len(domains) == 0 {
				domains = []string{domain}
			}
			password, err := a.password("Password: ")
			if err != nil {
				return err
			}
			pool, stop, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer stop()
			all, err := service.New(cmd.Context(), pool, workspace.Options{})
			if err != nil {
				return err
			}
			if err := all.Account.SetUp(cmd.Context(), domains, args[0], name, password); err != nil {
				return err
			}
			return a.done(domains, "The workspace has the domains %s, and %s as its administrator.", strings.Join(domains, ", "), args[0])
		},
	}
	s.flags(c, "127.0.0.1:8483", "data", "info")
	c.Flags().StringSliceVar(&domains, "domain", nil, "a mail domain, the main one first (default: that of ADDRESS)")
	c.Flags().StringVar(&name, "name", "", "the administrator's name")
	return c
}

func (a *app) demoCommand() *cobra.Command {
	var s daemon
	var reset bool
	var officeListen, officeSMTP string
	c := &cobra.Command{
		Use: "demo", Short: "Run the service with sample data and a stand-in post office", Args: cobra.NoArgs,
		Long: "Run Ivy Table with the sample workspace Merrow Line and a stand-in post office that keeps\nwhatever is sent, until it is interrupted. What you change is kept for the next start.",
		Example: "  ivytable demo\n  ivytable demo --reset\n" +
			"  IVYTABLE_LISTEN=127.0.0.1:9480 IVYTABLE_SMTP_LISTEN=127.0.0.1:3525 IVYTABLE_DATA=data/second \\\n    IVYTABLE_POST_OFFICE=127.0.0.1:9481 IVYTABLE_POST_OFFICE_SMTP=127.0.0.1:3526 ivytable demo",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if reset {
				if err := demo.Forget(s.data); err != nil {
					return err
				}
			}
			return a.demo(cmd.Context(), &s, officeListen, officeSMTP)
		},
	}
	s.flags(c, "", "data/demo", "warn")
	s.relayNames = []string{"mx.merrowline.example"} // whoever sends from this machine can be the relay
	c.Flags().StringVar(&officeListen, "post-office", "127.0.0.1:8481", "where the page of the post office listens")
	c.Flags().StringVar(&officeSMTP, "post-office-smtp", "127.0.0.1:2526", "where the post office takes mail in")
	markSettings(c.Flags())
	c.Flags().BoolVar(&reset, "reset", false, "start over: forget what was changed")
	return c
}

func (a *app) demo(ctx context.Context, s *daemon, officeListen, officeSMTP string) error {
	pool, stop, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer stop()
	if err := os.MkdirAll(s.data, 0o700); err != nil {
		return err
	}
	kept, err := os.OpenFile(filepath.Join(s.data, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer kept.Close()
	log, err := s.logger(kept)
	if err != nil {
		return err
	}
	made, err := demo.Fill(ctx, pool, time.Now())
	if err != nil {
		return fmt.Errorf("make the sample workspace: %w", err)
	}
	office, err := postoffice.New(filepath.Join(s.data, "post-office"))
	if err != nil {
		return err
	}
	office.Refuse = demo.Refuses
	in, err := net.Listen("tcp", officeSMTP)
	if err != nil {
		return fmt.Errorf("listen for the post office (--post-office-smtp): %w", err)
	}
	page, err := net.Listen("tcp", officeListen)
	if err != nil {
		in.Close()
		return fmt.Errorf("listen for the post office (--post-office): %w", err)
	}
	s.relay, s.relayTLS = []string{in.Addr().String()}, "opportunistic"
	names, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("listen for questions about mail domains: %w", err)
	}
	defer names.Close()
	s.resolver = names.LocalAddr().String()
	go resolver.New(names, demo.MailGoesTo, demo.Publishes(ctx, pool)).Serve()
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return office.Serve(in, page) })
	g.Go(func() error {
		defer office.Stop()
		return s.serve(ctx, pool, log, true, func() {
			state := "as you left it"
			if made {
				state = "newly made"
			}
			fmt.Fprintf(a.out, `Ivy Table is ready, with the sample workspace Merrow Line (%s).

  Console      %s
  Mail in      smtp://%s    sign in with an address and its password
  Post office  http://%s    everything that is sent arrives here
  Log          %s

  Administrator  %s
  Owner          %s
  Member         %s
  Auditor        %s
  Password       %s    for everybody

Stop with Ctrl-C. What you change is kept; start over with: make demo-reset
`, state, s.publicURL, s.smtpListen, page.Addr(), kept.Name(), demo.Administrator, demo.Owner, demo.Member, demo.Auditor, demo.Password)
		})
	})
	return g.Wait()
}

func (a *app) openapiCommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the description of the HTTP interface", Args: cobra.NoArgs, Example: "  ivytable openapi > openapi.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, doc := httpapi.Routes(nil, httpapi.Options{Log: slog.New(slog.DiscardHandler), Version: version})
			b, err := json.MarshalIndent(doc, "", "  ")
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, string(b))
			return err
		},
	}
}
