package api

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/backup"
	"inktray.example/inktray/internal/backups"
	"inktray.example/inktray/internal/store"
)

// GetBackup says where and when backups are made, and which was the last one.
func (s *backupHandlers) GetBackup(ctx context.Context, _ GetBackupRequestObject) (GetBackupResponseObject, error) {
	out, err := s.backup(ctx)
	return GetBackup200JSONResponse(out), err
}

// backup describes the backups.
func (s *backupHandlers) backup(ctx context.Context) (out Backup, err error) {
	plan, _, err := s.Store.Settings.BackupPlan(ctx)
	if err != nil {
		return out, err
	}
	done, failed, err := s.Store.Settings.Backups(ctx)
	if err != nil {
		return out, err
	}
	out = Backup{Place: BackupPlace(plan.Place), Folder: plan.Folder, At: plan.At, EveryDays: plan.EveryDays,
		Keep: plan.Keep, PublicKeys: append([]string{}, plan.PublicKeys...), PassphraseKept: len(plan.Sealed) > 0}
	if plan.Place == "" {
		out.Place, out.At, out.EveryDays, out.Keep = "none", "02:30", 1, 14
	}
	if plan.CabinetID != "" {
		if c, err := s.Store.Cabinets.ByID(ctx, plan.CabinetID); err == nil {
			out.Cabinet = c.Name
		}
	}
	if done != nil {
		out.Last = &BackupDone{At: done.At, Place: done.Place, Name: done.Name, Size: done.Size, Files: done.Files,
			Seconds: float32(done.Seconds)}
	}
	if failed != nil {
		out.FailedAt, out.Problem = &failed.At, &failed.Problem
	}
	if since := s.Engine.Backups.Running(); !since.IsZero() {
		out.RunningSince = &since
	}
	if plan.Place != "" {
		out.Late = backups.Late(&plan, done, failed, s.Engine.Now())
		if done != nil {
			next := backups.Next(&plan, done.At.In(s.Engine.Zone))
			out.Next = &next
		}
	}
	kept, err := s.Engine.Backups.Kept(ctx)
	if err != nil {
		problem := err.Error()
		out.KeptProblem = &problem
	}
	out.Kept = []struct {
		Name string `json:"name"`
		Size *int64 `json:"size,omitempty"`
	}{}
	for _, k := range kept {
		one := struct {
			Name string `json:"name"`
			Size *int64 `json:"size,omitempty"`
		}{Name: k.Name}
		if k.Size >= 0 {
			one.Size = &k.Size
		}
		out.Kept = append(out.Kept, one)
	}
	out.Revision, err = s.Store.Settings.RevisionOf(ctx, store.BackupSetting)
	return out, err
}

// PlanBackups sets where and when backups are made.
func (s *backupHandlers) PlanBackups(ctx context.Context, r PlanBackupsRequestObject) (PlanBackupsResponseObject,
	error) {
	b := r.Body
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	plan, old := store.BackupPlan{}, ""
	if b.Place != "none" {
		if plan, old, err = s.Store.Settings.BackupPlan(ctx); err != nil {
			return nil, err
		}
		if err := s.placed(ctx, b, &plan); err != nil {
			return nil, err
		}
		plan.At, plan.EveryDays, plan.Keep = cmp.Or(text(b.At), "02:30"), number(b.EveryDays, 1), number(b.Keep, 14)
		plan.PublicKeys = nil
		if b.PublicKeys != nil && len(*b.PublicKeys) > 0 {
			plan.PublicKeys, old = *b.PublicKeys, ""
		}
	}
	passphrase := b.Passphrase
	if plan.Place == "" || len(plan.PublicKeys) > 0 && (passphrase == nil || *passphrase == "") {
		none := ""
		passphrase = &none
	}
	if plan.Place != "" {
		if passphrase != nil && *passphrase != "" {
			old = *passphrase
		}
		if _, err := (&backup.Seal{Passphrase: old, PublicKeys: plan.PublicKeys}).Recipients(); err != nil {
			return nil, sealProblem(err)
		}
		if passphrase != nil && *passphrase == "" && len(plan.PublicKeys) == 0 {
			passphrase = nil
		}
	}
	if err := s.Store.Settings.PlanBackups(ctx, plan, passphrase, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.Engine.Changed("backup")
	out, err := s.backup(ctx)
	return PlanBackups200JSONResponse(out), err
}

// placed puts the place that was chosen into a plan.
func (s *backupHandlers) placed(ctx context.Context, b *BackupSettings, plan *store.BackupPlan) error {
	plan.Place, plan.Folder, plan.CabinetID = string(b.Place), "", ""
	if b.Place == "folder" {
		plan.Folder = text(b.Folder)
		if problem := s.Engine.Backups.CheckFolder(plan.Folder); problem != "" {
			return atField("folder", problem)
		}
		return nil
	}
	c, err := s.Store.Cabinets.Named(ctx, text(b.Cabinet))
	if errors.Is(err, store.ErrNotFound) {
		return atField("cabinet", "there is no cabinet of this name")
	}
	plan.CabinetID = c.ID
	return err
}

// sealProblem puts what is wrong with a seal at its field.
func sealProblem(err error) error {
	var not *backup.SealError
	if errors.As(err, &not) {
		return atField(not.Field, not.Problem)
	}
	return err
}

// MakeBackup makes a backup now.
func (s *backupHandlers) MakeBackup(ctx context.Context, _ MakeBackupRequestObject) (MakeBackupResponseObject, error) {
	plan, _, err := s.Store.Settings.BackupPlan(ctx)
	if err != nil {
		return nil, err
	}
	if plan.Place == "" {
		return nil, &problem{status: fiber.StatusConflict, kind: "no-place", text: "No place for backups is set.",
			advice: "Set one in Settings or with inktray backup plan, or save a backup with inktray backup save."}
	}
	s.Engine.Backups.Begin()
	out, err := s.backup(ctx)
	return MakeBackup202JSONResponse(out), err
}

// DownloadBackup makes a backup and sends it.
func (s *backupHandlers) DownloadBackup(_ context.Context, r DownloadBackupRequestObject) (DownloadBackupResponseObject,
	error) {
	seal := &backup.Seal{Passphrase: text(r.Body.Passphrase)}
	if r.Body.PublicKeys != nil {
		seal.PublicKeys = *r.Body.PublicKeys
	}
	if _, err := seal.Recipients(); err != nil {
		return nil, sealProblem(err)
	}
	return &backupFile{s.Server, seal}, nil
}

// backupFile is a backup that is sent.
type backupFile struct {
	server *Server
	seal   *backup.Seal
}

// VisitDownloadBackupResponse sends the backup.
func (f *backupFile) VisitDownloadBackupResponse(c fiber.Ctx) error {
	c.Set("Content-Type", "application/octet-stream")
	c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=\"inktray-%s-%s.age\"", f.server.Engine.Installation,
		f.server.Engine.Now().Format("2006-01-02-150405")))
	ctx := f.server.stop // the request's own ends before it is sent
	return c.SendStreamWriter(func(w *bufio.Writer) {
		_, err := f.server.Engine.Backups.Write(ctx, w, f.seal)
		if err == nil {
			err = w.Flush()
		}
		if err != nil {
			f.server.Log.Error("a backup was not sent to its end", "error", err)
		}
	})
}

// GetRestored says how far the comparison after a restoring is.
func (s *backupHandlers) GetRestored(ctx context.Context, _ GetRestoredRequestObject) (GetRestoredResponseObject,
	error) {
	out, err := s.restored(ctx)
	return GetRestored200JSONResponse(out), err
}

// EndComparison ends the comparison.
func (s *backupHandlers) EndComparison(ctx context.Context, _ EndComparisonRequestObject) (EndComparisonResponseObject,
	error) {
	if err := s.Engine.Registry.Comparison.End(ctx, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.restored(ctx)
	return EndComparison200JSONResponse(out), err
}

func (s *backupHandlers) restored(ctx context.Context) (out Restored, err error) {
	r, ok, err := s.Store.Restored.Restored(ctx)
	if err != nil {
		return out, err
	}
	if !ok {
		return out, store.ErrNotFound
	}
	counts, err := s.Store.Restored.Counts(ctx)
	if err != nil {
		return out, err
	}
	out = Restored{MadeAt: r.MadeAt, RestoredAt: r.RestoredAt, EndedAt: r.EndedAt, Files: counts.Files,
		Recognised: counts.Recognised, TakenBack: r.TakenBack, Missing: r.Missing,
		MissingExamples: append([]string{}, r.Examples...), WaitsForCabinets: []string{}, WaitsForMailboxes: []string{}}
	if r.Done() {
		out.Unknown = &r.Unknown
		if r.By != "" {
			out.EndedBy = &r.By
		}
		return out, nil
	}
	cabinets, mailboxes, items, err := s.Engine.Registry.Comparison.Waits(ctx, &r)
	out.WaitsForCabinets, out.WaitsForMailboxes = append(out.WaitsForCabinets, cabinets...),
		append(out.WaitsForMailboxes, mailboxes...)
	out.WaitsForItems = items
	return out, err
}

// ChangeKey gives the records a new key.
func (s *backupHandlers) ChangeKey(ctx context.Context, _ ChangeKeyRequestObject) (ChangeKeyResponseObject, error) {
	n, err := s.Store.Settings.RotateKey(context.WithoutCancel(ctx), viewerOf(ctx).Name)
	return ChangeKey200JSONResponse{Count: n}, err
}
