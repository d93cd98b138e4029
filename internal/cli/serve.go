package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata" // the machine's own zone data may be missing

	"github.com/spf13/cobra"
	"golang.org/x/text/language"

	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/console"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/headroom"
	"inktray.example/inktray/internal/inbound"
	"inktray.example/inktray/internal/machines"
	"inktray.example/inktray/internal/memory"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/source/drop"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/supervise"
)

// service is everything that runs, put together.
type service struct {
	store    *store.Store
	machines *machines.Machines
	engine   *engine.Engine
	api      *api.Server
	listener net.Listener
	tls      bool
	redirect *http.Server // nil where nobody is led on
	reached  []*url.URL
	served   chan error
	receiver *drop.Receiver // nil where no mail is received

	replica    *replica.Replica // nil where none is kept
	lease      *replica.Lease   // nil where no other machine may take over
	endReplica func(ctx context.Context) error
	turns      chan string // the folder of records to which the turn is given
}

type serviceOptions struct {
	data, listen, zone, language string
	reached                      []string                // addresses by which people reach it
	resolver                     string                  // address of a name server; "" for the system's
	headroom                     func() headroom.Reading // nil for this machine's
	scanner                      string                  // address of a virus scanner; "" for none
	receive                      receiveOptions
	certificate, key             string   // files with the console's certificate and its key; "" for no TLS
	acme, acmeMail               string   // directory of an authority that gives out certificates; "" for none
	redirect                     string   // address on which browsers are led to the one with TLS; "" for none
	plain                        bool     // other machines may reach it without TLS
	proxies                      []string // addresses and networks of web servers in front
	authority                    *inbound.ACME
	ready                        string // folder for the reader of PDFs; "" for one of the records'
	replica                      placeOptions
	holds                        *replica.Lease // where another machine may take over; nil where none may
	log                          *slog.Logger
}

func listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, &exitError{exitFailure,
			fmt.Sprintf("the address %s is taken by another program; choose another with --listen", address)}
	}
	if err != nil {
		return nil, fmt.Errorf("listening on %s: %w", address, err)
	}
	return l, nil
}

func start(o serviceOptions) (*service, error) {
	zone, err := time.LoadLocation(o.zone)
	if err != nil {
		return nil, &exitError{exitUsage, fmt.Sprintf("there is no time zone %q; use a name such as Europe/Oslo", o.zone)}
	}
	tag, err := language.Parse(o.language)
	if err != nil {
		return nil, &exitError{exitUsage, fmt.Sprintf("there is no language %q; use a tag such as en or de-AT", o.language)}
	}
	s := &service{served: make(chan error, 1), turns: make(chan string, 1)}
	if s.reached, err = addresses(o.reached); err != nil {
		return nil, err
	}
	secure, proxies, err := s.open(o)
	if err != nil {
		return nil, err
	}
	if err := s.openRecords(&o); err != nil {
		s.close()
		return nil, err
	}
	crash, err := reportCrashes(o.data)
	if err != nil {
		s.close()
		return nil, errors.Join(err, s.closeRecords())
	}
	resolver := net.DefaultResolver
	if o.resolver != "" {
		resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, o.resolver)
		}}
	}
	mailboxes := &reacher{records: s.store, mail: filepath.Join(o.data, "mail"), resolver: resolver}
	cabinets := &shelves{records: s.store, staging: filepath.Join(o.data, "staged"), resolver: resolver}
	scanner, err := scannerAt(o.scanner)
	if err != nil {
		s.close()
		return nil, errors.Join(err, s.closeRecords())
	}
	s.engine = engine.New(engine.Config{
		Base:    base.New(base.Base{Store: s.store, Clock: time.Now, Zone: zone, Language: tag, Log: o.log}),
		Scanner: scanner, Version: Version,
		Spool: filepath.Join(o.data, "spool"), Ready: cmp.Or(o.ready, filepath.Join(o.data, "ready")),
		Resolver: resolver, Mail: mailboxes.mail, KeepMail: s.keepMail(),
		Turn: s.turn(), DropDomain: strings.ToLower(o.receive.domain), CrashReport: crash,
		Dial: mailboxes.dial, Try: mailboxes.try,
		OpenCabinet: cabinets.open, Prepare: cabinets.prepare, Browse: cabinets.browse,
	})
	s.machines = machines.New(machines.Config{Base: s.engine.Base, Folder: filepath.Join(o.data, "machines"),
		Records: recordsName, Open: placesOf(filepath.Join(o.data, "machines-staging"))})
	s.api, err = api.New(api.Config{Store: s.store, Engine: s.engine, Clock: time.Now, Log: o.log, Version: Version,
		Reached: s.reached, Console: console.Register, TLS: secure, Proxies: proxies, Replica: s.replicated(),
		Machine: o.replica.name(), Machines: s.machines})
	if err == nil {
		err = s.engine.Start()
	}
	if err == nil {
		err = s.machines.Start()
	}
	if err != nil {
		s.close()
		return nil, errors.Join(err, s.closeRecords())
	}
	if err := s.receive(o, resolver); err != nil {
		s.close()
		s.engine.Stop()
		return nil, errors.Join(err, s.closeRecords())
	}
	go func() { s.served <- s.api.Serve(s.listener) }()
	s.engine.Go("giving back memory", memory.Keep)
	s.engine.Go("watching open files and memory", s.watchHeadroom(o.headroom))
	if s.replica != nil {
		s.engine.Go("watching the replica", s.watchReplica(cmp.Or(o.replica.late, lateAfter)))
	}
	return s, nil
}

// openRecords opens the records, and lets a replica follow them where one is kept.
func (s *service) openRecords(o *serviceOptions) (err error) {
	if err := os.MkdirAll(o.data, 0o700); err != nil {
		return fmt.Errorf("making the folder for the records: %w", err)
	}
	if s.store, err = store.Open(o.data); err != nil {
		return err
	}
	err = s.replicate(context.Background(), o)
	if err == nil && s.lease != nil { // records that came from another machine have no empty folders
		err = mailFolders(context.Background(), s.store, o.data)
	}
	if err != nil {
		return errors.Join(err, s.closeRecords())
	}
	if s.store.Opened > 0 {
		o.log.Warn("other users of this machine could read Ink Tray's records and mail; now only its own user can", "folder",
			o.data, "files and folders", s.store.Opened)
	}
	return nil
}

// close lets go of the addresses that are listened on.
func (s *service) close() {
	s.listener.Close()
	if s.redirect != nil {
		s.redirect.Close()
	}
}

// startUntil starts the service unless ctx ends first, as it may while a share hangs.
func startUntil(ctx context.Context, o serviceOptions) (*service, error) {
	type begun struct {
		s   *service
		err error
	}
	done := make(chan begun, 1)
	go func() {
		s, err := start(o)
		done <- begun{s, err}
	}()
	select {
	case b := <-done:
		return b.s, b.err
	case <-ctx.Done():
		return nil, errEnded
	}
}

// reportCrashes lets the Go runtime write into the data folder why the program ends by
// its own fault. It returns the report of the run before this one; "" where there is none.
func reportCrashes(data string) (before string, err error) {
	report := filepath.Join(data, "crash.txt")
	if info, err := os.Stat(report); err == nil && info.Size() > 0 {
		before = filepath.Join(data, "crash-previous.txt")
		if err := os.Rename(report, before); err != nil {
			return "", fmt.Errorf("keeping the report of a crash: %w", err)
		}
	}
	f, err := os.OpenFile(report, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return "", fmt.Errorf("making the file for reports of crashes: %w", err)
	}
	return before, errors.Join(debug.SetCrashOutput(f, debug.CrashOptions{}), f.Close())
}

func (s *service) address() string {
	if s.tls {
		return "https://" + s.listener.Addr().String()
	}
	return "http://" + s.listener.Addr().String()
}

// front is the address that people are told.
func (s *service) front() string {
	if len(s.reached) > 0 {
		return s.reached[0].String()
	}
	return s.address()
}

// addresses reads the addresses by which people reach the service.
func addresses(given []string) ([]*url.URL, error) {
	var all []*url.URL
	for _, one := range given {
		u, err := url.Parse(strings.TrimSuffix(strings.TrimSpace(one), "/"))
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" || u.Path != "" ||
			u.RawQuery != "" || u.Fragment != "" || u.User != nil {
			return nil, &exitError{exitUsage,
				fmt.Sprintf("%q is not an address by which a browser reaches Ink Tray; write it as "+
					"https://inktray.office.example",
					one)}
		}
		u.Host = strings.ToLower(u.Host)
		all = append(all, u)
	}
	return all, nil
}

// scannerAt is the virus scanner at an address, nil where there is none.
func scannerAt(address string) (*scan.Scanner, error) {
	if address == "" {
		return nil, nil
	}
	if path, ok := strings.CutPrefix(address, "unix:"); ok && path != "" {
		return &scan.Scanner{Address: address}, nil
	}
	if _, _, err := net.SplitHostPort(address); err != nil {
		return nil, &exitError{exitUsage,
			fmt.Sprintf("%q is not an address of a virus scanner; use unix:/run/clamav/clamd.ctl or host:port", address)}
	}
	return &scan.Scanner{Address: address}, nil
}

// longestStop is how long the service may take to end, whatever hangs: a share that is away, a server that is silent.
// What is not at its end then is taken up at the next start, as after a kill.
const longestStop = 20 * time.Second

// stop ends the service within a bound.
func (s *service) stop() error { return within(longestStop, s.end) }

// within lets a work end, for so long.
func within(longest time.Duration, work func() error) error {
	done := make(chan error, 1)
	go func() { done <- work() }()
	select {
	case err := <-done:
		return err
	case <-time.After(longest):
		return fmt.Errorf("some work did not end within %v, for example because a share hangs; it goes on at the next "+
			"start, and nothing is lost", longest)
	}
}

// end lets what is being answered and filed come to its end.
func (s *service) end() error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	err := s.api.Shutdown(ctx)
	_ = s.listener.Close() // where answering did not begin yet, nothing is closed by that
	if s.redirect != nil {
		err = errors.Join(err, s.redirect.Shutdown(ctx))
	}
	if s.receiver != nil {
		err = errors.Join(err, s.receiver.Shutdown(ctx))
	}
	s.engine.Stop()
	s.machines.Stop()
	return errors.Join(err, s.closeRecords())
}

// longestReplica is how long a replica may take to get the last changes.
const longestReplica = 8 * time.Second

// closeRecords closes the records, and brings the last changes to the replica.
func (s *service) closeRecords() error {
	if s.endReplica == nil {
		return s.store.Close()
	}
	impatient := time.AfterFunc(longestReplica/2, s.replica.GiveUp)
	err := s.store.Close()
	impatient.Stop()
	ctx, cancel := context.WithTimeout(context.Background(), longestReplica)
	defer cancel()
	if notAll := s.endReplica(ctx); notAll != nil {
		err = errors.Join(err, fmt.Errorf("the last changes did not get into the replica: %w", notAll))
	}
	return err
}

// turn numbers the turns of machines that take turns; nil where there is one machine.
func (s *service) turn() func() int64 {
	if s.lease == nil {
		return nil
	}
	return s.lease.Turn
}

// keepMail is what sees to it that received mail is in the replica; nil where there is none.
func (s *service) keepMail() func(ctx context.Context, file string) error {
	if s.replica == nil {
		return nil
	}
	return s.replica.Keep
}

// errGaveTurn says that this machine let another one take over.
var errGaveTurn = &exitError{exitFailure, "this machine gave its turn to another one; start it with inktray standby, " +
	"so that it waits for its next turn"}

// run serves until ctx ends, or another machine takes over.
func (s *service) run(ctx context.Context) error {
	select {
	case <-ctx.Done():
		supervise.Tell("STOPPING=1")
		return s.stop()
	case err := <-s.served:
		return errors.Join(err, s.stop())
	case to := <-s.turns:
		s.lease.To(to)
		supervise.Tell("STOPPING=1")
		if err := s.stop(); err != nil {
			return err
		}
		return errGaveTurn
	case <-s.lost():
		// Nothing is ended in good order: whatever is still to be done is another machine's by now.
		return &exitError{exitFailure, "this machine no longer holds the lease, so another one may work in its place; " +
			"start it with inktray standby, so that it takes its turn again"}
	}
}

func defaultData() string {
	if dir := os.Getenv("STATE_DIRECTORY"); dir != "" { // set by systemd
		return dir
	}
	if dir, err := os.UserConfigDir(); err == nil {
		return filepath.Join(dir, "inktray", "data")
	}
	return "inktray-data"
}

// logger writes the service's log in a form, from a level on.
func (c serviceCommands) logger(form, level string) (*slog.Logger, error) {
	var least slog.Level
	if err := least.UnmarshalText([]byte(level)); err != nil || strings.ContainsAny(level, "+-") {
		return nil, usageError{fmt.Errorf("--log-level is debug, info, warn or error, not %q", level)}
	}
	options := &slog.HandlerOptions{Level: least}
	switch form {
	case "text":
		return slog.New(slog.NewTextHandler(c.errs, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(&clean{to: plain(c.errs), json: true}, options)), nil
	}
	return nil, usageError{fmt.Errorf("--log is text or json, not %q", form)}
}

// serveOptions are what the command line says of a service, beyond its own options.
type serveOptions struct {
	serviceOptions
	logs, level, file string
	check             bool
}

// prepare reads the options from where they are given. checked says that nothing more is to be done.
func (c serviceCommands) prepare(cmd *cobra.Command, o *serveOptions) (checked bool, err error) {
	from, err := configure(cmd, o.file)
	if err != nil {
		return false, err
	}
	if o.check {
		if err := c.configured(cmd, from); err != nil {
			return true, err
		}
		if _, err := c.logger(o.logs, o.level); err != nil {
			return true, err
		}
		return true, o.serviceOptions.check()
	}
	if err := o.replica.check(); err != nil {
		return false, err
	}
	o.log, err = c.logger(o.logs, o.level)
	return false, err
}

// began tells that a service answers, and sees to it that the service manager hears that it goes on.
func (c serviceCommands) began(ctx context.Context, s *service, o *serveOptions) error {
	code, err := api.SetupCode(ctx, s.store)
	if err != nil {
		return errors.Join(err, s.stop())
	}
	c.printf("Ink Tray %s is at %s\nIts records are in %s\n", Version, s.front(), o.data)
	if code != "" {
		c.printf("\nNobody can sign in yet. Make the first administrator with this link, which works once:\n\n "+
			"   %s/set-up#%s\n\nor with: inktray sign-in --set-up %s --name \"Your Name\"\n\n", s.front(), code, code)
	}
	o.log.Info("started", "version", Version, "address", s.front(), "records", o.data)
	supervise.Tell("READY=1")
	s.engine.Go("telling that it is alive", func(ctx context.Context) {
		supervise.Alive(ctx, func(ctx context.Context) { _ = s.store.Ready(ctx) })
	})
	return nil
}

func (c serviceCommands) serve() *cobra.Command {
	o := serveOptions{}
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service: watch, file, and answer the console and the command line", Args: cobra.NoArgs,
		Long: "You can give each option on the command line, in the environment (--time-zone is INKTRAY_TIME_ZONE), or " +
			"in a YAML file (--config; “time-zone: Europe/Oslo”). The first of these that has the option counts. --check " +
			"shows each value and where it comes from, finds mistakes, and starts nothing.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if checked, err := c.prepare(cmd, &o); checked || err != nil {
				return err
			}
			if err := o.acquire(cmd.Context()); err != nil {
				return err
			}
			s, err := startUntil(cmd.Context(), o.serviceOptions)
			if err != nil && o.holds != nil { // a standby need not wait
				err = errors.Join(err, o.holds.Give(context.WithoutCancel(cmd.Context())))
			}
			if err != nil {
				return err
			}
			if err := c.began(cmd.Context(), s, &o); err != nil {
				return err
			}
			defer o.log.Info("ended", "version", Version)
			return s.run(cmd.Context())
		},
	}
	c.serveFlags(cmd, &o)
	return cmd
}

// serveFlags are the options of a command that runs the service.
func (c serviceCommands) serveFlags(cmd *cobra.Command, o *serveOptions) {
	cmd.Flags().StringVar(&o.data, "data", defaultData(), "folder for the records")
	cmd.Flags().StringVar(&o.listen, "listen", "127.0.0.1:8025", "address to listen on; others than this machine reach "+
		"it only if you say so here")
	cmd.Flags().StringSliceVar(&o.reached, "address", nil,
		"address by which people reach it, such as https://inktray.office.example behind a web server that speaks TLS; "+
			"other names are not answered")
	cmd.Flags().StringVar(&o.zone, "time-zone", "Local", "zone of dates in folders and names, such as Europe/Oslo")
	receiveFlags(cmd, &o.serviceOptions)
	cmd.Flags().StringVar(&o.scanner, "virus-scanner", "", "ask a virus scanner that speaks clamd's protocol about "+
		"everything that is filed: unix:/run/clamav/clamd.ctl or host:port")
	transportFlags(cmd, &o.serviceOptions)
	cmd.Flags().StringVar(&o.replica.place, "replica", "",
		"keep a copy of the installation, as it changes, at a place: "+placeHelp)
	o.replica.openFlags(cmd.Flags())
	o.replica.writeFlags(cmd.Flags())
	cmd.Flags().StringVar(&o.file, "config", os.Getenv("INKTRAY_CONFIG"), "YAML file with options (INKTRAY_CONFIG)")
	cmd.Flags().BoolVar(&o.check, "check", false,
		"show what would be used and from where, find faults, and start nothing")
	cmd.Flags().StringVar(&o.language, "language", "en",
		"language of month names in folders and names, and of mail that Ink Tray sends")
	cmd.Flags().StringVar(&o.logs, "log", "text", "form of the log on standard error: text or json")
	cmd.Flags().StringVar(&o.level, "log-level", "info",
		"level of the log: debug (every request, too), info, warn or error")
}
