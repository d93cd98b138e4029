package cli

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/supervise"
)

// usualLease is after how long a silence another machine takes over, where nothing else is said.
const usualLease = 6 * time.Second

// standby waits beside an active machine, and takes over.
func (c serviceCommands) standby() *cobra.Command {
	o := serveOptions{}
	cmd := &cobra.Command{Use: "standby", Args: cobra.NoArgs,
		Short: "Wait beside the machine that works, with a fresh copy, and take over when it is silent",
		Long: "Takes the options of inktray serve, and becomes the service when it takes over; until then it shows its " +
			"state at its address. Start the active machine with --replica and --lease. If this machine was active before " +
			"and another one is active since, its records are moved aside, next to the new ones. Start every machine with " +
			"inktray standby, except the very first time: then it does not matter which one is active.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if checked, err := c.prepare(cmd, &o); checked || err != nil {
				return err
			}
			if o.replica.place == "" {
				return usageError{errors.New("name the replica that this machine keeps a copy of, with --of")}
			}
			if o.replica.lease == 0 {
				o.replica.lease = usualLease
			}
			defer o.log.Info("ended", "version", Version)
			supervise.Tell("READY=1")
			for {
				err := c.waitAndServe(cmd.Context(), &o)
				if err != errGaveTurn {
					return err
				}
				o.log.Info("this machine gave its turn away, and waits for its next one")
			}
		}}
	c.serveFlags(cmd, &o)
	cmd.Flags().StringVar(&o.replica.place, "of", "", "the place of the replica; the same as --replica: "+placeHelp)
	cmd.AddCommand(c.promote(), c.standbyShow())
	return cmd
}

// waitAndServe waits for the turn of this machine, and is the service then.
func (c serviceCommands) waitAndServe(ctx context.Context, o *serveOptions) error {
	lease, err := c.wait(ctx, o)
	if err != nil {
		if ctx.Err() != nil {
			return nil
		}
		return err
	}
	turn := o.serviceOptions
	turn.holds = lease
	s, err := startUntil(ctx, turn)
	if err != nil {
		return errors.Join(err, lease.Give(context.WithoutCancel(ctx)))
	}
	if err := c.began(ctx, s, o); err != nil {
		return err
	}
	return s.run(ctx)
}

// wait keeps a copy until this machine has the lease, and says meanwhile at its address how it does.
func (c serviceCommands) wait(ctx context.Context, o *serveOptions) (*replica.Lease, error) {
	lock := flock.New(filepath.Join(o.data, "inktray.lock"), flock.SetPermissions(0o600))
	place, passphrase, err := o.replica.open(filepath.Join(o.data, "replica", "staging"), nil)
	if err != nil {
		return nil, err
	}
	s, err := replica.NewStandby(replica.StandbyConfig{Place: place, Passphrase: passphrase, Data: o.data,
		Records: theRecords, Machine: o.replica.name(), For: o.replica.lease, Newest: store.NewestRecords(), Log: o.log})
	if err != nil {
		return nil, err
	}
	if mine, err := lock.TryLock(); err != nil || !mine {
		return nil, errors.Join(err, &exitError{exitFailure, "another Ink Tray is at work in " + o.data})
	}
	defer func() { _ = lock.Unlock() }()
	secure, _, err := o.transport()
	if err != nil {
		return nil, err
	}
	l, err := listen(o.listen)
	if err != nil {
		return nil, err
	}
	scheme := "http"
	if secure != nil {
		l, scheme = tls.NewListener(l, secure), "https"
	}
	shown := &http.Server{Handler: waitingPage{s}, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = shown.Serve(l) }()
	defer shown.Close()
	c.printf("Ink Tray %s waits to take over, and shows its state at %s://%s\n", Version, scheme,
		l.Addr())
	o.log.Info("waiting", "version", Version, "replica", place.String(), "records", o.data)
	waiting, over := context.WithCancel(ctx)
	defer over()
	go supervise.Alive(waiting, func(context.Context) {})
	lease, err := s.Run(ctx, context.WithoutCancel(ctx)) // ending in good order needs it, too
	return lease, errors.Join(err, place.Close())
}

// waitingPage says how a machine does that waits.
type waitingPage struct{ s *replica.Standby }

// WaitingState is what a machine that waits says at its address, as JSON at /api/v1/standby.
type WaitingState struct {
	Machine string    `json:"machine"`
	Active  string    `json:"active"` // the machine that works
	CopyAt  time.Time `json:"copy_at"`
	Fresh   bool      `json:"fresh"`
	Problem string    `json:"problem,omitempty"`
}

// ServeHTTP answers.
func (p waitingPage) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	st := p.s.Status()
	state := WaitingState{st.Machine, st.Active.Machine, st.Copy, st.Fresh, st.Problem}
	head := w.Header()
	head.Set("Cache-Control", "no-store")
	head.Set("X-Content-Type-Options", "nosniff")
	head.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	reads := r.Method == http.MethodGet || r.Method == http.MethodHead
	switch {
	case reads && r.URL.Path == "/api/v1/health":
		head.Set("Content-Type", "application/json")
		fmt.Fprintln(w, `{"status":"ok"}`)
	case reads && r.URL.Path == "/api/v1/standby":
		head.Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(state)
	case strings.HasPrefix(r.URL.Path, "/api/"):
		head.Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusServiceUnavailable)
		_ = json.NewEncoder(w).Encode(map[string]any{"type": "urn:inktray:waits", "status": 503,
			"title": "This machine waits", "detail": "This machine waits to take over" + activeIs(state.Active) +
				" Ask that machine, or see the state of this one with inktray standby show."})
	default:
		head.Set("Content-Type", "text/html; charset=utf-8")
		w.WriteHeader(http.StatusServiceUnavailable)
		_ = waitingTemplate.Execute(w, state.said())
	}
}

func activeIs(machine string) string {
	if machine == "" {
		return "."
	}
	return "; the machine “" + machine + "” works."
}

// said is the state in sentences.
func (s *WaitingState) said() (lines []string) {
	lines = append(lines, fmt.Sprintf("The machine “%s” waits to take over%s", s.Machine, activeIs(s.Active)))
	switch {
	case s.CopyAt.IsZero():
		lines = append(lines, "It has no copy yet.")
	case s.Fresh:
		lines = append(lines, "Its copy has everything that is in the replica; the newest change is of "+
			s.CopyAt.Local().Format("2 January 2006, 15:04:05")+".")
	default:
		lines = append(lines, "Its copy does not have everything yet; its newest change is of "+
			s.CopyAt.Local().Format("2 January 2006, 15:04:05")+".")
	}
	if s.Problem != "" {
		lines = append(lines, "It could not take over: "+s.Problem+".")
	}
	return lines
}

// standbyShow says how a machine does that waits.
func (c serviceCommands) standbyShow() *cobra.Command {
	return &cobra.Command{Use: "show", Args: cobra.NoArgs,
		Short: "Show the state of a machine that waits; asks that machine, without signing in",
		RunE: func(cmd *cobra.Command, _ []string) error {
			request, err := http.NewRequestWithContext(cmd.Context(), http.MethodGet, c.service+"/api/v1/standby", nil)
			if err != nil {
				return err
			}
			web, err := c.web()
			if err != nil {
				return err
			}
			response, err := web.Do(request)
			if err != nil {
				return &exitError{exitReach, fmt.Sprintf("no machine is reached at %s", c.service)}
			}
			defer response.Body.Close()
			var state WaitingState
			if response.StatusCode != http.StatusOK ||
				json.NewDecoder(io.LimitReader(response.Body, 1<<20)).Decode(&state) != nil {
				return &exitError{exitMissing, fmt.Sprintf("the machine at %s does not wait: it works, or is not an Ink Tray; "+
					"see inktray replica show", c.service)}
			}
			return c.show(state, func() {
				for _, line := range state.said() {
					c.println(line)
				}
			})
		}}
}

// promote lets a machine that waits take over now.
func (c serviceCommands) promote() *cobra.Command {
	return &cobra.Command{Use: "promote [MACHINE]", Args: cobra.MaximumNArgs(1),
		Short: "Let a machine that waits take over now, without loss; asks the machine that works",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			body := client.GiveTurnJSONRequestBody{}
			if len(args) > 0 {
				body.Machine = &args[0]
			}
			w, err := call[client.WaitingMachine](api.GiveTurn(ctx, body))
			if err != nil {
				return err
			}
			return c.show(w, func() {
				c.printf("“%s” takes over. The machine that worked ends its work first; inktray standby lets it wait "+
					"for its next turn.\n", w.Machine)
			})
		})}
}

// replica tells of the replica.
func (c serviceCommands) replica() *cobra.Command {
	root := &cobra.Command{Use: "replica", Short: "The copy of the installation that follows each change"}
	root.AddCommand(&cobra.Command{Use: "show", Args: cobra.NoArgs,
		Short: "The state of the replica, the active machine, and the machines that wait to take over",
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			r, err := call[client.Replica](api.GetReplica(ctx))
			if err != nil {
				return err
			}
			return c.show(r, func() { c.toldReplica(&r) })
		})})
	return root
}

func (c serviceCommands) toldReplica(r *client.Replica) {
	when := func(t time.Time) string { return t.Local().Format("2 January 2006, 15:04:05") }
	if !r.Kept {
		c.println("There is no replica. Start the service with --replica, and see inktray serve --help.")
		return
	}
	c.printf("The replica is in %s.\n", r.Place)
	switch {
	case r.At == nil:
		c.println("Nothing is in it yet.")
	case r.BehindSeconds == 0:
		c.printf("It is complete; Ink Tray last wrote it at %s.\n", when(*r.At))
	default:
		c.printf("It is %.1f seconds behind; everything until %s is in it.\n", r.BehindSeconds, when(*r.At))
	}
	if r.Problem != nil {
		c.printf("Ink Tray has not been able to write it since %s: %s.\n", when(*r.ProblemSince), *r.Problem)
	}
	if r.Earliest != nil {
		c.printf("States from %s on can be restored from it.\n", when(*r.Earliest))
	}
	if !r.TakesTurns {
		c.println("No other machine may take over: the service runs without --lease.")
		return
	}
	c.printf("The machine “%s” works. One that waits takes over once it is silent for %.0f seconds.\n",
		r.Machine, *r.LeaseSeconds)
	if r.WaitingProblem != nil {
		c.printf("Those that wait cannot be listed: %s.\n", *r.WaitingProblem)
	}
	if len(r.Waiting) == 0 {
		c.println("No machine waits. Start one with inktray standby.")
		return
	}
	fmt.Fprintln(c.out)
	var rows [][]string
	for _, w := range r.Waiting {
		state, copied := "ready", ""
		switch {
		case w.Problem != nil:
			state = *w.Problem
		case !w.Ready && w.Fresh:
			state = "not heard of lately"
		case !w.Ready:
			state = "its copy does not have everything yet"
		}
		if w.CopyAt != nil {
			copied = when(*w.CopyAt)
		}
		rows = append(rows, []string{w.Machine, state, copied})
	}
	c.table([]string{"WAITS", "STATE", "NEWEST CHANGE IN ITS COPY"}, rows)
}
