// Vorrangd is the service: it answers the API, serves the console, and runs
// deployments.
package main

import (
	"context"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata" // the zones of windows, also where the machine has none

	"vorrang/console"
	"vorrang/core/engine"
	"vorrang/internal/listening"
	"vorrang/internal/subprocess"
	"vorrang/records"
	"vorrang/service"
	"vorrang/service/chart"
	"vorrang/target/mariadb"
	"vorrang/target/postgres"
	"vorrang/target/sqlite"
	"vorrang/work"
)

// version is set by the build.
var version = "development"

// memoryLimit makes the collector work harder before the process grows past
// it, in bytes. It is no hard limit; GOMEMLIMIT overrides it.
const memoryLimit = 160 << 20

func main() {
	if err := run(os.Args[1:]); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return
		}
		fmt.Fprintln(os.Stderr, "vorrangd:", err)
		os.Exit(1)
	}
}

type settings struct {
	listen, records, log, signIn string
	sqlite                       string
	certificate, key             string
	plain, check, ready          bool
	proxies, hooks               []net.IPNet
	references                   []string
	grace, wait                  time.Duration
	keep                         records.Retention
	auditFiles                   string
}

func parse(args []string) (settings, error) {
	var s settings
	flags := flag.NewFlagSet("vorrangd", flag.ContinueOnError)
	flags.StringVar(&s.listen, "listen", "127.0.0.1:7340", "the `address` to answer at")
	flags.StringVar(
		&s.records, "records",
		os.Getenv("VORRANG_RECORDS_URL"),
		"the `URL` of the records database (VORRANG_RECORDS_URL)",
	)
	flags.StringVar(
		&s.signIn, "sign-in",
		os.Getenv("VORRANG_SIGN_IN"),
		"a `file` that says how people sign in by OpenID Connect (VORRANG_SIGN_IN)",
	)
	flags.StringVar(
		&s.certificate, "tls-certificate",
		os.Getenv("VORRANG_TLS_CERTIFICATE"),
		"the `file` of the certificate to answer with; read again when it changes (VORRANG_TLS_CERTIFICATE)",
	)
	flags.StringVar(&s.key, "tls-key", os.Getenv("VORRANG_TLS_KEY"), "the `file` of its key (VORRANG_TLS_KEY)")
	flags.BoolVar(&s.plain, "plain", false, "answer beyond this machine without TLS: a proxy in front of it speaks TLS")
	proxies := flags.String(
		"proxies",
		os.Getenv("VORRANG_PROXIES"),
		"`networks`, divided by commas, whose X-Forwarded-For and X-Forwarded-Proto are believed, such as 127.0.0.1/32 "+
			"(VORRANG_PROXIES)",
	)
	references := flags.String(
		"references",
		os.Getenv("VORRANG_REFERENCES"),
		"`patterns`, divided by commas, of what targets and hooks may refer to, such as "+
			"env:HARBOUR_*,file:/run/secrets/*; without it all but the service's own (VORRANG_REFERENCES)",
	)
	hookNetworks := flags.String(
		"hook-networks",
		os.Getenv("VORRANG_HOOK_NETWORKS"),
		"`networks` that hooks may lead to although they are this machine's or link-local (VORRANG_HOOK_NETWORKS)",
	)
	flags.StringVar(
		&s.sqlite, "sqlite",
		os.Getenv("VORRANG_SQLITE"),
		"the `folder` of the SQLite files that may be targets; without it none is opened (VORRANG_SQLITE)",
	)
	flags.StringVar(&s.log, "log", "info", "the least `level` to log: debug, info, warn or error")
	flags.DurationVar(
		&s.grace, "grace", 20*time.Second,
		"how long a running step may take to end once the service is stopped",
	)
	flags.DurationVar(
		&s.wait, "wait", 15*time.Second,
		"how long to wait for another vorrangd that brings the same records up to date",
	)
	s.keepFlags(flags)
	flags.BoolVar(
		&s.check, "check", false,
		"check the settings, the records and every target that the lanes refer to, change nothing, and end",
	)
	flags.BoolVar(
		&s.ready, "ready", false,
		"ask the service that runs here, at -listen, whether it is ready, and end: with exit code 1 where it is not",
	)
	showVersion := flags.Bool("version", false, "print the version and end")
	flags.Usage = func() {
		fmt.Fprintf(flags.Output(), "vorrangd answers Vorrang's API and runs deployments.\n\n"+
			"  VORRANG_ADMIN_TOKEN=$(openssl rand -hex 24) VORRANG_RECORDS_URL=postgres://… vorrangd\n\n")
		flags.PrintDefaults()
	}
	if err := flags.Parse(args); err != nil {
		return s, err
	}
	if *showVersion {
		fmt.Println("vorrangd", version)
		return s, flag.ErrHelp
	}
	if flags.NArg() > 0 {
		return s, fmt.Errorf("%q is not expected; vorrangd takes flags only", flags.Arg(0))
	}
	return s, s.allow(*proxies, *references, *hookNetworks)
}

// keepFlags are those of how long what is kept.
func (s *settings) keepFlags(flags *flag.FlagSet) {
	s.keep = records.Retention{Details: 365 * day, Schemas: 365 * day, Deliveries: 30 * day, Rehearsals: 180 * day}
	for _, kept := range []struct {
		name, what string
		age        *time.Duration
	}{
		{"keep-details", "statements, notices, effects and footprints of deployments are kept for these `days`; " +
			"ever: for ever", &s.keep.Details},
		{"keep-schemas", "the schemas that deployments left, but for the newest, are kept for these `days`", &s.keep.Schemas},
		{"keep-deliveries", "deliveries to hooks are kept for these `days`", &s.keep.Deliveries},
		{"keep-rehearsals", "rehearsals are kept for these `days`", &s.keep.Rehearsals},
	} {
		flags.Func(kept.name, fmt.Sprintf("%s (default %d)", kept.what, *kept.age/day), func(text string) (err error) {
			*kept.age, err = days(text)
			return err
		})
	}
	flags.Func("keep-audit", "the audit is kept for these `days`, 30 at the least, and written to -audit-files before it goes (default ever)",
		func(text string) (err error) {
			if s.keep.Audit, err = days(text); err == nil && s.keep.Audit > 0 && s.keep.Audit < records.LeastAudit {
				err = errors.New("the audit is kept for 30 days at the least")
			}
			return err
		})
	flags.StringVar(&s.auditFiles, "audit-files", "",
		"the `folder` where what goes of the audit is written, a file each month; none writes it nowhere")
}

// allow reads the lists of settings, and refuses settings that do not go together.
func (s *settings) allow(proxies, references, hookNetworks string) error {
	if (s.certificate == "") != (s.key == "") {
		return errors.New("-tls-certificate and -tls-key go together: a certificate needs its key")
	}
	if s.ready { // the settings are those of a service that runs
		return nil
	}
	if s.certificate == "" && !s.plain && !onLoopback(s.listen) {
		return fmt.Errorf(
			"-listen %s answers beyond this machine, and passwords would pass unencrypted; give -tls-certificate and "+
				"-tls-key, or, with a proxy in front that speaks TLS, -plain",
			s.listen,
		)
	}
	for _, pattern := range strings.FieldsFunc(references, func(r rune) bool { return r == ',' || r == ' ' }) {
		if _, err := path.Match(pattern, ""); err != nil ||
			!strings.HasPrefix(pattern, "env:") && !strings.HasPrefix(pattern, "file:") {
			return fmt.Errorf(
				"-references: %q is not a pattern; write it as env:HARBOUR_* or file:/run/secrets/*",
				pattern,
			)
		}
		s.references = append(s.references, pattern)
	}
	var err error
	if s.proxies, err = networks("-proxies", proxies); err != nil {
		return err
	}
	if s.hooks, err = networks("-hook-networks", hookNetworks); err != nil {
		return err
	}
	if (s.keep.Audit > 0) != (s.auditFiles != "") {
		return errors.New("-keep-audit and -audit-files go together: say where the audit is written before it goes, or " +
			"-audit-files none")
	}
	if info, err := os.Stat(s.sqlite); s.sqlite != "" && (err != nil || !info.IsDir()) {
		return fmt.Errorf(
			"-sqlite %s is not a folder that can be read; make it, or name the one that holds the SQLite files",
			s.sqlite,
		)
	}
	if s.records == "" {
		return errors.New(
			"the records database is not given; set VORRANG_RECORDS_URL, or -records, to the URL of an empty " +
				"PostgreSQL database",
		)
	}
	return nil
}

const day = 24 * time.Hour

// days reads for how long something is kept; ever is 0.
func days(text string) (time.Duration, error) {
	if text == "ever" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 36500 {
		return 0, errors.New("write a number of days from 1 to 36500, or ever")
	}
	return time.Duration(n) * day, nil
}

// onLoopback reports whether an address answers on this machine only.
func onLoopback(listen string) bool {
	host, _, err := net.SplitHostPort(listen)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// networks reads networks that commas divide.
func networks(flag, text string) ([]net.IPNet, error) {
	var list []net.IPNet
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		_, network, err := net.ParseCIDR(part)
		if err != nil {
			return nil, fmt.Errorf("%s: %q is not a network; write it as 127.0.0.1/32 or 10.0.0.0/8", flag, part)
		}
		list = append(list, *network)
	}
	return list, nil
}

func run(args []string) error {
	s, err := parse(args)
	if err != nil {
		return err
	}
	if s.ready {
		return ready(context.Background(), s)
	}
	var level slog.Level
	if err := level.UnmarshalText([]byte(s.log)); err != nil {
		return fmt.Errorf("-log %s: it is debug, info, warn or error", s.log)
	}
	log := slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	openID, err := openIDOf(s.signIn)
	if err != nil {
		return err
	}
	if s.check {
		return check(context.Background(), os.Stdout, s)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()

	store, err := records.Open(ctx, postgres.Engine{}, s.records,
		records.Settings{Wait: s.wait, Version: version, Log: log})
	if err != nil {
		return err
	}
	defer store.Close()
	tracer, flush, err := tracing(ctx, store.Service())
	if err != nil {
		return err
	}
	defer flush()
	server, err := service.New(
		service.Config{
			Engines:      s.engines(),
			Records:      store,
			Token:        os.Getenv("VORRANG_ADMIN_TOKEN"),
			OpenID:       openID,
			Console:      console.Files(),
			Log:          log,
			Version:      version,
			Grace:        s.grace,
			Proxies:      s.proxies,
			HookNetworks: s.hooks,
			References:   s.references,
			Retention:    s.keep,
			AuditFiles:   s.audits(),
			Tracer:       tracer,
		},
	)
	if err != nil {
		return err
	}
	if err := server.Start(ctx); err != nil {
		return err
	}
	return serve(ctx, server, s, log)
}

// audits is where the audit is written before it goes.
func (s settings) audits() work.AuditFiles {
	if s.auditFiles == "none" {
		return ""
	}
	return work.AuditFiles(s.auditFiles)
}

// engines are those that this service has.
func (s settings) engines() engine.Engines {
	return engine.Of(postgres.Engine{}, mariadb.Engine{}, sqlite.Engine{Folder: s.sqlite})
}

// openIDOf reads the file that says how people sign in elsewhere; nil for none.
func openIDOf(name string) (*service.OpenID, error) {
	if name == "" {
		return nil, nil
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("-sign-in: %w", err)
	}
	return service.ReadOpenID(name, text)
}

// shares reports whether many clients may come from an address: a proxy's, or this machine's.
func (s settings) shares(from netip.Addr) bool {
	contains := func(n net.IPNet) bool { return n.Contains(from.AsSlice()) }
	return from.IsLoopback() || slices.ContainsFunc(s.proxies, contains)
}

func serve(ctx context.Context, server *service.Service, s settings, log *slog.Logger) error {
	listener, err := net.Listen("tcp", s.listen)
	if err != nil {
		return fmt.Errorf("listen at %s: %w", s.listen, err)
	}
	limits := listening.Usual()
	listener = listening.Bound(listener, limits, s.shares)
	if s.certificate != "" {
		kept := &certificate{names: [2]string{s.certificate, s.key}}
		if _, err := kept.get(nil); err != nil {
			return err
		}
		listener = tls.NewListener(listener, &tls.Config{GetCertificate: kept.get, MinVersion: tls.VersionTLS12})
	}
	if _, err := subprocess.Find(chart.Program); err != nil {
		log.Warn("maps are drawn as a plain grid", "error", err)
	}
	log.Info("vorrangd is ready", "version", version, "address", listener.Addr().String(),
		"connections", limits.All, "connections_of_one_address", limits.One)
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	log.Info("vorrangd is stopping", "grace", s.grace.String())
	server.Stop()
	log.Info("vorrangd has stopped")
	return nil
}
