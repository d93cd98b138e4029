package api

import (
	"context"
	"errors"
	"path/filepath"
	"strings"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/common/expfmt"

	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/store"
)

// GetMetrics counts for a monitoring program.
func (s *careHandlers) GetMetrics(ctx context.Context, _ GetMetricsRequestObject) (GetMetricsResponseObject, error) {
	v := viewerOf(ctx)
	registry := prometheus.NewRegistry()
	gauge := func(name, help, label string, values map[string]float64) {
		g := prometheus.NewGaugeVec(prometheus.GaugeOpts{Namespace: "inktray", Name: name, Help: help}, []string{label})
		for of, value := range values {
			g.WithLabelValues(of).Set(value)
		}
		registry.MustRegister(g)
	}
	counts, err1 := s.Store.Tray.Counts(ctx, v)
	notices, err2 := s.Store.Tray.Notices(ctx, v)
	states, err3 := s.Store.Journal.StateCounts(ctx, v)
	boxes, err4 := s.Store.Mailboxes.All(ctx, v)
	cabinets, err5 := s.Store.Cabinets.Seen(ctx, v)
	unread, err6 := s.Store.Retries.Waiting(ctx, v)
	if err := errors.Join(err1, err2, err3, err4, err5, err6); err != nil {
		return nil, err
	}
	tray := map[string]float64{}
	for _, c := range outbox.Causes {
		tray[string(c.Cause)] = float64(counts[c.Cause])
	}
	tray["notice"] = float64(len(notices))
	if v.Role == store.Administrator {
		if err := s.installationMetrics(ctx, registry, gauge); err != nil {
			return nil, err
		}
	}
	gauge("tray", "Matters that wait for a person, by cause.", "cause", tray)
	items := map[string]float64{}
	for state, n := range states {
		items[string(state)] = float64(n)
	}
	gauge("items", "Items of the journal, by state.", "state", items)
	waiting := map[string]float64{}
	for _, m := range boxes {
		waiting[m.Name] = float64(unread[m.ID])
	}
	gauge("messages_waiting", "Messages that wait to be read again, or are read beside the others, by mailbox.", "mailbox",
		waiting)
	reach, connections := map[string]float64{}, map[string]float64{}
	for _, m := range boxes {
		reach[m.Name] = 1
		if n := s.Engine.Mailboxes.InUse(&m); n > 0 {
			connections[m.Name] = float64(n)
		}
		if state := s.Engine.Status(m.ID).State; state == mailboxes.OutOfReach || state == mailboxes.Slowed {
			reach[m.Name] = 0
		}
	}
	gauge("mailbox_up", "Whether a mailbox can be read, 1 or 0.", "mailbox", reach)
	gauge("mailbox_connections", "Connections to the mail server that the account of a mailbox has.", "mailbox",
		connections)
	well := map[string]float64{}
	for _, c := range cabinets {
		well[c.Name] = 1
		if s.Engine.Cabinets.Problem(c.ID) != nil {
			well[c.Name] = 0
		}
	}
	gauge("cabinet_up", "Whether a cabinet can be used, 1 or 0.", "cabinet", well)
	background := map[string]float64{}
	for name, n := range s.Engine.Running() {
		background[name] = float64(n)
	}
	gauge("background", "Work that goes on in the background, by what it is.", "work", background)
	unexpected, err := s.Store.Unexpected()
	if err != nil {
		return nil, err
	}
	for name, of := range map[string]struct {
		help  string
		value float64
	}{
		"statements_total": {"SQL statements since the start.", float64(s.Store.Statements())},
		"statements_prepared_total": {
			"SQL statements that SQLite translated since the start; the others were used again.",
			float64(s.Store.Prepared())},
		"processes_total": {"Processes started since the start to read hostile files in.",
			float64(s.Engine.Reader.Processes())},
		"connections_total": {"Connections to mailboxes opened since the start, also those that came to nothing.",
			float64(s.Engine.Mailboxes.Connections())},
		"unexpected_states_total": {"Changes of states since the start that should not happen; tell the makers.",
			float64(len(unexpected))},
	} {
		registry.MustRegister(prometheus.NewCounterFunc(
			prometheus.CounterOpts{Namespace: "inktray", Name: name, Help: of.help}, func() float64 { return of.value }))
	}
	families, err := registry.Gather()
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	encoder := expfmt.NewEncoder(&b, expfmt.NewFormat(expfmt.TypeTextPlain))
	for _, f := range families {
		if err := encoder.Encode(f); err != nil {
			return nil, err
		}
	}
	return GetMetrics200TextResponse(b.String()), nil
}

// installationMetrics are about the whole installation, for administrators and their tokens.
func (s *careHandlers) installationMetrics(ctx context.Context, registry *prometheus.Registry,
	gauge func(name, help, label string, values map[string]float64)) error {
	registry.MustRegister(collectors.NewGoCollector(), s.requests)
	registry.MustRegister(collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	gauge("build_info", "1 for the version that runs.", "version", map[string]float64{s.Version: 1})
	t := s.Store.Journal.Work()
	registry.MustRegister(&constant{[]prometheus.Metric{
		total("filed_total", "Attachments filed since the start.", t.Filed),
		total("filed_bytes_total", "Octets of these.", t.Octets),
		spread("delay_seconds", "From the announcement of a new message by its server to the filing of each attachment.",
			t.Delays),
		spread("commit_seconds", "How long commits of the records took.", t.Commits),
	}})
	if room, err := s.Engine.Backups.Room(); err == nil && room >= 0 {
		gauge("records_free_bytes", "Room that is left where the records are.", "folder",
			map[string]float64{filepath.Dir(s.Store.Path()): float64(room)})
	}
	passes, err := s.Store.Passes.Unfinished(ctx)
	if err != nil {
		return err
	}
	kinds := map[string]float64{"old mail": 0}
	for i := range passes {
		kinds[passes[i].Kind]++
	}
	gauge("passes_running", "Passes that are not at their end, by kind.", "kind", kinds)
	if s.Replica != nil {
		s.replicaMetrics(gauge)
	}
	s.machineMetrics(gauge)
	done, _, err := s.Store.Settings.Backups(ctx)
	if err != nil || done == nil {
		return err
	}
	gauge("backup_age_seconds", "Time since the last backup that was read back.", "place",
		map[string]float64{done.Place: s.Clock().Sub(done.At).Seconds()})
	return nil
}

// replicaMetrics are about the replica, and about who waits to take over.
func (s *careHandlers) replicaMetrics(gauge func(name, help, label string, values map[string]float64)) {
	r := s.Replica.Report()
	gauge("replica_behind_seconds", "Age of the oldest change that is not in the replica.", "place",
		map[string]float64{r.Place: r.Behind.Seconds()})
	gauge("replica_failing", "1 while the replica cannot be written.", "place",
		map[string]float64{r.Place: asNumber(r.Problem != "")})
	waiting := map[string]float64{}
	for i := range r.Waiting {
		waiting[r.Waiting[i].Machine] = asNumber(ready(&r.Waiting[i]))
	}
	if r.Lease > 0 {
		gauge("standby_ready", "1 where a machine that waits could take over.", "machine", waiting)
	}
}

// constant gives metrics that are known already.
type constant struct{ all []prometheus.Metric }

// Describe describes the metrics.
func (c *constant) Describe(to chan<- *prometheus.Desc) {
	for _, m := range c.all {
		to <- m.Desc()
	}
}

// Collect gives the metrics.
func (c *constant) Collect(to chan<- prometheus.Metric) {
	for _, m := range c.all {
		to <- m
	}
}

func total(name, help string, n int64) prometheus.Metric {
	return prometheus.MustNewConstMetric(prometheus.NewDesc("inktray_"+name, help, nil, nil), prometheus.CounterValue,
		float64(n))
}

func spread(name, help string, d store.Distribution) prometheus.Metric {
	upTo := make(map[float64]uint64, len(d.UpTo))
	for bound, n := range d.UpTo {
		upTo[bound] = uint64(n)
	}
	return prometheus.MustNewConstHistogram(prometheus.NewDesc("inktray_"+name, help, nil, nil), uint64(d.Count),
		d.Seconds, upTo)
}

// machineMetrics are about the other machines of the office.
func (s *careHandlers) machineMetrics(gauge func(name, help, label string, values map[string]float64)) {
	answers, fresh := map[string]float64{}, map[string]float64{}
	for _, m := range s.others() {
		st := m.Status()
		answers[m.Name], fresh[m.Name] = asNumber(st.Answers), asNumber(st.Fresh)
	}
	if len(answers) > 0 {
		gauge("machine_answers", "1 where another machine of the office answers.", "machine", answers)
		gauge("machine_copy_fresh", "1 where the copy of its records has all that is in its replica.", "machine", fresh)
	}
}

func asNumber(is bool) float64 {
	if is {
		return 1
	}
	return 0
}
