package engine

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

var prove = flag.Bool("prove", false,
	"take every flush, lock and journal commit out, one at a time, and see a test fail")

// safeguard is one flush, lock or commit, and the test that notices its lack.
type safeguard struct {
	what     string // for the document
	file     string // from the repository's root
	old, new string // the code, and the code without it
	test     string // package and pattern
}

var safeguards = []safeguard{
	{"flush of a staged file", "internal/cabinet/local/local.go", "		err = f.Sync()\n", "		err = nil\n",
		"./internal/cabinet/local ThePower"},
	{"flush of the staging folder", "internal/cabinet/local/local.go", "		err = c.flush(root, cabinet.Staging)\n",
		"		err = nil\n", "./internal/cabinet/local ThePower"},
	{"flush of the folder in which a file got its name", "internal/cabinet/local/local.go",
		"	if err := c.flush(root, folder); err != nil {\n		return explain(err, \"flushing \"+folder)\n	}\n	c.mutex.Lock()",
		"	c.mutex.Lock()", "./internal/cabinet/local ThePower"},
	{"flush of a new folder's entry", "internal/cabinet/local/local.go", "		err = c.flush(root, parent)\n",
		"		err = nil\n", "./internal/cabinet/local ThePower"},
	{"flush of a folder that another is making", "internal/cabinet/local/local.go", "		if c.unflushed(folder) {",
		"		if false {", "./internal/cabinet/local ThePower"},
	{"flush of both folders when a file is moved aside or back", "internal/cabinet/local/local.go",
		"		if err := root.SyncDir(folder); err != nil {\n			return explain(err, \"flushing \"+folder)\n		}\n		c.mutex.Lock()",
		"		c.mutex.Lock()", "./internal/engine ThePowerMayGoAtAnyMomentOf(A|An)(Replacement|Undo)"},
	{"flush of a content that waits for its cabinet", "internal/filing/keep.go", "		err = f.Sync()\n", "		err = nil\n",
		"./internal/engine OutlivesThePower"},
	{"flush of the folder of such contents", "internal/filing/keep.go", "		err = fl.kept.SyncDir(\".\")\n",
		"		err = nil\n", "./internal/engine OutlivesThePower"},
	{"flush of a received message", "internal/source/mailfile/deliver.go", "		err = f.Sync()\n", "		err = nil\n",
		"./internal/source/mailfile ThePower"},
	{"flush of the folder in which a received message got its name", "internal/source/mailfile/deliver.go",
		"	return d.SyncDir(path.Join(dir, \"new\"))\n", "	return nil\n", "./internal/source/mailfile ThePower"},
	{"flush of what waits for an object store", "internal/cabinet/s3/s3.go", "		err = f.Sync()\n", "		err = nil\n",
		"./internal/cabinet/s3 ThePower"},
	{"flush of the folder in which it waits", "internal/cabinet/s3/s3.go", "		err = d.SyncDir(\".\")\n", "		err = nil\n",
		"./internal/cabinet/s3 ThePower"},
	{"claim of a name on a WebDAV server", "internal/cabinet/webdav/claim.go", "		err := t.Mkdir(whole, mine)\n",
		"		err := error(nil)\n", "./internal/cabinet/webdav TwoWritersAtOnce"},
	{"flush of every commit of the records", "internal/store/store.go", "_pragma=synchronous(FULL)",
		"_pragma=synchronous(NORMAL)", "./internal/store ThePowerMayGo"},
	{"write-ahead log of the records", "internal/store/store.go", "_pragma=journal_mode(WAL)", "_pragma=journal_mode(OFF)",
		"./internal/store Flush"},
	{"lock on the records", "internal/store/store.go", "	if mine, err := lock.TryLock(); err != nil {",
		"	if mine, err := true, error(nil); err != nil {", "./internal/store TwoServices"},
	{"claim of an item by one worker", "internal/filing/filing.go", "	if !fl.Claim(entry.ID) {\n		return " +
		"nil\n	}\n	defer fl.Release(entry.ID)\n	fresh", "	fresh", "./internal/engine AnItemIsInTheHands"},
	{"claim of a kept content by one worker", "internal/filing/keep.go", " || !fl.Claim(entry.ID) {", " {",
		"./internal/engine AKeptContentIsInTheHands"},
	{"one replacement at a time", "internal/filing/naming.go",
		"		g.Replacing.Lock()\n		defer g.Replacing.Unlock()\n	}\n	for {", "		_ = g\n	}\n	for {",
		"./internal/engine OfTwoReplacements"},
	{"one undoing at a time", "internal/registry/undo.go", "	rg.undoing.Lock()\n	defer rg.undoing.Unlock()\n", "",
		"./internal/engine TwoUndoings"},
	{"plans and progress in one commit", "internal/engine/process.go",
		"	commit := func() error { return e.Store.Messages.Commit(ctx, *look) }\n",
		"	commit := func() error {\n		if err := e.Store.Messages.Commit(ctx, store.Look{Folder: look.Folder}); " +
			"err != nil {\n			return err\n		}\n		return e.Store.Messages.Commit(ctx, *look)\n	}\n",
		"./internal/engine EveryFault.*/faults/(none|the_process)"},
	{"commit of a staged item and its exact name", "internal/filing/naming.go",
		"			err = fl.Store.Journal.Stage(ctx, entry, " +
			"l.Row, fl.Now())\n",
		"			if err = fl.Store.Journal.Draw(ctx, entry, l.Row, fl.Now()); err == nil {\n				entry.State = " +
			"store.Staged\n			}\n", "./internal/engine EveryFault.*/faults/(none|the_process)"},
	{"a filed item and its line in the register in one commit", "internal/store/journal.go",
		"	return enter(tx, e, done) // in the same commit\n}\n\n// FoundThere", "	return nil\n}\n\n// FoundThere",
		"./internal/engine EveryFault.*/faults/none"},
	{"commit of staged items and their names, together", "internal/filing/together.go",
		"	changed, err := fl.Store.Journal.StageTogether(ctx, several(group), fl.Now())\n",
		"	changed, err := make([]bool, len(group)), fl.Store.Journal.DrawTogether(ctx, several(group), fl.Now())\n	for " +
			"_, p := range group {\n		p.entry.State = store.Staged\n	}\n", "./internal/engine TheProcessEndsAtAnyCommit"},
	{"names in the order of the messages", "internal/filing/together.go",
		"		if _, there := taken[key(p.entry.Path)]; there {\n			return group[:i]\n		}\n", "",
		"./internal/engine OldMailThatIsFiledAtOnce"},
	{"sweep of unfinished files", "internal/engine/engine.go",
		"		e.Filer.Recover(e.Context(), c.ID)\n		e.Filer.Sweep(e.Context(), c.ID)\n",
		"		e.Filer.Recover(e.Context(), c.ID)\n", "./internal/engine EveryFault.*/faults/(none|the_process)"},
	{"commit before a message is moved", "internal/outbox/follow.go",
		"	if err := ob.Store.FollowUps.BeginFollowUp(ctx, f); " +
			"err != nil {\n		return err\n	}\n	place, err", "	place, err",
		"./internal/engine EveryFault.*/faults/(none|the_process)"},
	{"commit before a draft is left", "internal/outbox/follow.go",
		"	if err := ob.Store.FollowUps.BeginFollowUp(ctx, f); err " +
			"!= nil {\n		return err\n	}\n	if err := s.Append", "	if err := s.Append", "./internal/engine ADraftIsLeftOnce"},
	{"commit before a mail is sent", "internal/outbox/carry.go",
		"		if err := ob.Store.FollowUps.Begin(ctx, p); err != nil " +
			"{\n			return err\n		}\n", "", "./internal/engine AMailIsSentAtMostOnce"},
	{"hand-over to the post in one commit with its follow-up", "internal/store/follow.go", "		f.State, f.NextAt, " +
		"f.DoneAt = DidIt, nil, &done\n		return tx.Model(f).Select(\"state\", \"next_at\", \"done_at\").Updates(f).Error\n",
		"		_ = done\n		return nil\n", "./internal/engine EveryFault.*/faults/none/the_disk"},
	{"commit of what waits here for its cabinet", "internal/filing/keep.go",
		"	return fl.Store.Journal.Spool(ctx, entry)\n}\n\n// keepContent", "	return nil\n}\n\n// keepContent",
		"./internal/engine OutlivesThePower"},
	{"commit of an undoing before anything is moved", "internal/registry/undo.go",
		"	if err := rg.Store.Undoing.Ask(ctx, v, " +
			"ids, &p); err != nil {\n		return p, err\n	}\n", "", "./internal/engine TakenBack"},
	{"commit of a number before its name is used", "internal/filing/naming.go",
		"		if err := fl.Store.Journal.Draw(ctx, entry, l.Row, fl.Now()); err != nil {\n			return err\n		}\n",
		"", "./internal/engine RegisterNumber"},
	{"what is being read, written down first", "internal/engine/process.go", "	if err := v.take(uids); err != nil " +
		"{\n		return r, err\n	}\n", "", "./internal/engine WhatIsBeingRead"},
}

// TestEverySafeguardIsNoticed proves that each safeguard stands where the list
// says; with -prove, that a test fails without it.
func TestEverySafeguardIsNoticed(t *testing.T) {
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	var mutex sync.Mutex
	rows := make([]string, len(safeguards))
	t.Run("each", func(t *testing.T) {
		for i, s := range safeguards {
			t.Run(s.what, func(t *testing.T) {
				source, err := os.ReadFile(filepath.Join(root, s.file))
				if err != nil {
					t.Fatal(err)
				}
				if n := strings.Count(string(source), s.old); n != 1 {
					t.Fatalf("it stands %d times in %s", n, s.file)
				}
				if !*prove {
					return
				}
				t.Parallel()
				folder := t.TempDir()
				without := filepath.Join(folder, "without.go")
				overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{filepath.Join(root, s.file): without}})
				if err != nil {
					t.Fatal(err)
				}
				text := strings.Replace(string(source), s.old, s.new, 1)
				if err := os.WriteFile(without, []byte(text), 0o644); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(filepath.Join(folder, "overlay.json"), overlay, 0o644); err != nil {
					t.Fatal(err)
				}
				at, pattern, _ := strings.Cut(s.test, " ")
				run := exec.Command("go", "test", "-vet=off", "-count=1", "-timeout=5m", "-overlay",
					filepath.Join(folder, "overlay.json"), at, "-run", pattern)
				run.Env = append(os.Environ(), "INKTRAY_TEST_PROVES=1")
				run.Dir = root
				out, err := run.CombinedOutput()
				failed := ""
				for _, line := range strings.Split(string(out), "\n") {
					if name, ok := strings.CutPrefix(strings.TrimSpace(line), "--- FAIL: "); ok && failed == "" {
						failed, _, _ = strings.Cut(name, " ")
					}
				}
				if err == nil || failed == "" {
					t.Fatalf("without it the test %q passes, or nothing was built:\n%.600s", s.test, out)
				}
				mutex.Lock()
				rows[i] = fmt.Sprintf("| %s | `%s` | `%s` |\n", s.what, s.file, strings.SplitN(failed, "/", 2)[0])
				mutex.Unlock()
			})
		}
	})
	if t.Failed() || !*prove || !*writeDocs {
		return
	}
	testbed.WriteSection(t, filepath.Join(root, "docs", "reliability.md"), "safeguards", strings.Join(rows, ""))
}
