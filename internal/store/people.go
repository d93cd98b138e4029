package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Errors that callers tell apart.
var (
	ErrLastAdministrator = errors.New("there would be no administrator left who can sign in")
	ErrLink              = errors.New("the link is not known, was used, or has expired")
)

// Rights are what a person or a group may see: all mailboxes and cabinets, or those that are listed, by id.
type Rights struct {
	AllMailboxes, AllCabinets bool
	Mailboxes, Cabinets       []string
}

// Everything is the right to see all.
var Everything = Rights{AllMailboxes: true, AllCabinets: true}

// All lists who may sign in, or could.
func (s *People) All(ctx context.Context) ([]Person, error) {
	return list[Person](s.reading(ctx).Order("name"))
}

// ByID finds somebody.
func (s *People) ByID(ctx context.Context, id string) (Person, error) {
	return first[Person](s.reading(ctx).Where("id = ?", id))
}

// Named finds somebody by name.
func (s *People) Named(ctx context.Context, name string) (Person, error) {
	return first[Person](s.reading(ctx).Where("name = ?", name))
}

// Add lets somebody sign in, who sees all mailboxes and cabinets.
func (s *People) Add(ctx context.Context, p Person, actor string) error {
	p.AllMailboxes, p.AllCabinets, p.Revision = true, true, 1
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&p).Error; err != nil {
			return err
		}
		return note(tx, actor, "add person", p.Name)
	})
}

// AddFirst makes the first administrator, if there is nobody yet and a setting still has the value that was
// looked at, and empties that setting. Else it is ErrTaken.
func (s *People) AddFirst(ctx context.Context, p Person, setting, value string) error {
	p.AllMailboxes, p.AllCabinets, p.Revision = true, true, 1
	return s.change(ctx, func(tx *gorm.DB) error {
		var people int64
		if err := tx.Model(&Person{}).Count(&people).Error; err != nil {
			return err
		}
		if people > 0 {
			return ErrTaken
		}
		emptied := tx.Exec("UPDATE settings SET value = '' WHERE key = ? AND value = ?", setting, value)
		if emptied.Error == nil && emptied.RowsAffected == 0 {
			return ErrTaken
		}
		if err := emptied.Error; err != nil {
			return err
		}
		if err := tx.Create(&p).Error; err != nil {
			return err
		}
		return note(tx, p.Name, "add person", p.Name)
	})
}

// Invite makes somebody who chooses a password by a link. The error is ErrTaken where the name is.
func (s *People) Invite(ctx context.Context, p *Person, r Rights, groups []string, link Link, actor string) error {
	p.AllMailboxes, p.AllCabinets, p.Revision = r.AllMailboxes, r.AllCabinets, 1
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(p).Error; err != nil {
			return err
		}
		if err := grant(tx, p.ID, r); err != nil {
			return err
		}
		if err := join(tx, p.ID, groups); err != nil {
			return err
		}
		after, err := described(tx, p)
		if err != nil {
			return err
		}
		if err := tx.Create(&link).Error; err != nil {
			return err
		}
		return noteChange(tx, actor, "invite person", p.Name, nil, after)
	})
}

// Change replaces a person's name, address, role, rights and groups. revision is the one that the change is based on,
// 0 for any; the error is ErrChanged where the present one is another, ErrTaken where somebody has that name, and
// ErrLastAdministrator.
func (s *People) Change(ctx context.Context, p *Person, r Rights, groups []string, revision int, actor string) error {
	return s.changePerson(ctx, p.ID, revision, "change person", actor, func(tx *gorm.DB, now *Person) error {
		now.Name, now.Mail, now.Role, now.AllMailboxes, now.AllCabinets = p.Name, p.Mail, p.Role, r.AllMailboxes,
			r.AllCabinets
		if err := tx.Model(now).Select("name", "mail", "role", "all_mailboxes", "all_cabinets", "revision").
			Updates(now).Error; err != nil {
			return err
		}
		if err := grant(tx, p.ID, r); err != nil {
			return err
		}
		if err := join(tx, p.ID, groups); err != nil {
			return err
		}
		*p = *now
		return nil
	})
}

// Lock keeps a person out, or lets her in again. The person's sessions end; tokens work again once she is let in. The
// error is ErrLastAdministrator where nobody else could.
func (s *People) Lock(ctx context.Context, id string, locked bool, now time.Time, actor string) error {
	what := "unlock person"
	if locked {
		what = "lock person"
	}
	return s.changePerson(ctx, id, 0, what, actor, func(tx *gorm.DB, p *Person) error {
		p.LockedAt = nil
		if locked {
			at := now.UTC()
			p.LockedAt = &at
			if err := tx.Where("person_id = ? AND kind = 'session'", id).Delete(&Key{}).Error; err != nil {
				return err
			}
		}
		return tx.Model(p).Select("locked_at", "revision").Updates(p).Error
	})
}

// Remove forgets a person with her sessions, tokens, links and preferences. What she did stays on record.
func (s *People) Remove(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		before, err := described(tx, &p)
		if err != nil {
			return err
		}
		if err := exec(tx, statement{"DELETE FROM grants WHERE holder = ?", []any{id}},
			statement{"DELETE FROM people WHERE id = ?", []any{id}}); err != nil {
			return err
		}
		if err := administered(tx); err != nil {
			return err
		}
		return noteChange(tx, actor, "remove person", p.Name, before, nil)
	})
}

// changePerson changes somebody, and writes down what was changed.
func (s *People) changePerson(ctx context.Context, id string, revision int, what, actor string,
	change func(tx *gorm.DB, p *Person) error) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		if revision > 0 && revision != p.Revision {
			return ErrChanged
		}
		name := p.Name
		before, err := described(tx, &p)
		if err != nil {
			return err
		}
		p.Revision++
		if err := change(tx, &p); err != nil {
			return err
		}
		if err := administered(tx); err != nil {
			return err
		}
		if err := endUnprovenAs(tx, &p); err != nil { // the role may be another
			return err
		}
		after, err := described(tx, &p)
		if err != nil {
			return err
		}
		return noteChange(tx, actor, what, name, before, after)
	})
}

// administered is ErrLastAdministrator where no administrator can sign in any more.
func administered(tx *gorm.DB) error {
	found, err := there(tx.Model(&Person{}).Where("role = ? AND password <> '' AND locked_at IS NULL", Administrator))
	if err == nil && !found {
		return ErrLastAdministrator
	}
	return err
}

// Grants are the mailboxes and cabinets that were granted one by one to each person and each group, by the holder's id.
func (s *People) Grants(ctx context.Context) (map[string]Rights, error) {
	rows, err := list[Grant](s.reading(ctx).Order("holder, kind, object"))
	all := map[string]Rights{}
	for _, g := range rows {
		r := all[g.Holder]
		r.add(g)
		all[g.Holder] = r
	}
	return all, err
}

// Grant lets a person or a group see a mailbox or a cabinet.
type Grant struct {
	Holder string
	Kind   string // "mailbox" or "cabinet"
	Object string
}

func (r *Rights) add(g Grant) {
	of := &r.Cabinets
	if g.Kind == "mailbox" {
		of = &r.Mailboxes
	}
	*of = append(*of, g.Object)
}

// grant replaces what a person or a group may see, besides what its row says.
func grant(tx *gorm.DB, holder string, r Rights) error {
	if err := tx.Exec("DELETE FROM grants WHERE holder = ?", holder).Error; err != nil {
		return err
	}
	for kind, ids := range map[string][]string{"mailbox": r.Mailboxes, "cabinet": r.Cabinets} {
		for _, id := range ids {
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&Grant{holder, kind, id}).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// Group are several people with the same rights.
type Group struct {
	ID           string `gorm:"primaryKey"`
	Name         string
	AllMailboxes bool
	AllCabinets  bool
	Revision     int
	MadeAt       time.Time
}

// member says that a person is in a group.
type member struct{ PersonID, GroupID string }

// TableName is the table of members.
func (member) TableName() string { return "members" }

// Groups lists the groups.
func (s *People) Groups(ctx context.Context) ([]Group, error) {
	return list[Group](s.reading(ctx).Order("name"))
}

// GroupNamed finds a group.
func (s *People) GroupNamed(ctx context.Context, name string) (Group, error) {
	return first[Group](s.reading(ctx).Where("name = ?", name))
}

// Members gives the groups of everybody who is in one, by the person's id, and the other way round.
func (s *People) Members(ctx context.Context) (groupsOf, peopleIn map[string][]string, err error) {
	rows, err := list[member](s.reading(ctx).Order("person_id, group_id"))
	groupsOf, peopleIn = map[string][]string{}, map[string][]string{}
	for _, m := range rows {
		groupsOf[m.PersonID] = append(groupsOf[m.PersonID], m.GroupID)
		peopleIn[m.GroupID] = append(peopleIn[m.GroupID], m.PersonID)
	}
	return groupsOf, peopleIn, err
}

// SaveGroup keeps a group with its rights and people. One with revision 0 is new, or replaces whatever is there where
// it has an id. The error is ErrTaken or ErrChanged.
func (s *People) SaveGroup(ctx context.Context, g *Group, r Rights, people []string, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		what, based := "add group", g.Revision
		was, err := first[Group](tx.Where("id = ?", g.ID))
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		var before map[string]any
		if err == nil {
			if based > 0 && based != was.Revision {
				return ErrChanged
			}
			what = "change group"
			if before, err = describedGroup(tx, &was); err != nil {
				return err
			}
		}
		g.AllMailboxes, g.AllCabinets, g.Revision = r.AllMailboxes, r.AllCabinets, was.Revision+1
		if err := tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "id"}}, UpdateAll: true}).
			Create(g).Error; err != nil {
			return err
		}
		if err := grant(tx, g.ID, r); err != nil {
			return err
		}
		if err := tx.Where("group_id = ?", g.ID).Delete(&member{}).Error; err != nil {
			return err
		}
		for _, id := range people {
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&member{id, g.ID}).Error; err != nil {
				return err
			}
		}
		after, err := describedGroup(tx, g)
		if err != nil {
			return err
		}
		return noteChange(tx, actor, what, g.Name, before, after)
	})
}

// RemoveGroup forgets a group. Its people keep their own rights.
func (s *People) RemoveGroup(ctx context.Context, id, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		g, err := first[Group](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		before, err := describedGroup(tx, &g)
		if err != nil {
			return err
		}
		if err := exec(tx, statement{"DELETE FROM grants WHERE holder = ?", []any{id}},
			statement{"DELETE FROM groups WHERE id = ?", []any{id}}); err != nil {
			return err
		}
		return noteChange(tx, actor, "remove group", g.Name, before, nil)
	})
}

func join(tx *gorm.DB, person string, groups []string) error {
	if err := tx.Where("person_id = ?", person).Delete(&member{}).Error; err != nil {
		return err
	}
	for _, id := range groups {
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&member{person, id}).Error; err != nil {
			return err
		}
	}
	return nil
}

// described is what the audit trail says about a person.
func described(tx *gorm.DB, p *Person) (map[string]any, error) {
	d := map[string]any{"name": p.Name, "role": string(p.Role)}
	if p.Mail != "" {
		d["mail"] = p.Mail
	}
	if p.LockedAt != nil {
		d["locked"] = "yes"
	}
	var groups []string
	if err := tx.Raw("SELECT g.name FROM members m JOIN groups g ON g.id = m.group_id WHERE m.person_id = ? "+
		"ORDER BY g.name", p.ID).Scan(&groups).Error; err != nil {
		return nil, err
	}
	d["groups"] = enumerated(groups)
	return d, describedRights(tx, d, p.ID, p.AllMailboxes, p.AllCabinets)
}

func describedGroup(tx *gorm.DB, g *Group) (map[string]any, error) {
	d := map[string]any{"name": g.Name}
	var people []string
	if err := tx.Raw("SELECT p.name FROM members m JOIN people p ON p.id = m.person_id WHERE m.group_id = ? "+
		"ORDER BY p.name", g.ID).Scan(&people).Error; err != nil {
		return nil, err
	}
	d["people"] = enumerated(people)
	return d, describedRights(tx, d, g.ID, g.AllMailboxes, g.AllCabinets)
}

func enumerated(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

func describedRights(tx *gorm.DB, d map[string]any, holder string, allMailboxes, allCabinets bool) error {
	for _, of := range []struct {
		kind, table string
		all         bool
	}{{"mailbox", "mailboxes", allMailboxes}, {"cabinet", "cabinets", allCabinets}} {
		names := []string{"all"}
		if !of.all {
			names = nil
			if err := tx.Raw("SELECT t.name FROM grants g JOIN "+of.table+" t ON t.id = g.object WHERE g.holder = ? "+
				"AND g.kind = ? ORDER BY t.name", holder, of.kind).Scan(&names).Error; err != nil {
				return err
			}
		}
		d[of.table] = enumerated(names)
	}
	return nil
}

// Link lets a person choose a password, once, until it expires. Only its hash is kept, as of a Key.
type Link struct {
	Hash      []byte `gorm:"primaryKey"`
	PersonID  string
	MadeBy    string
	MadeAt    time.Time
	ExpiresAt time.Time
}

// AddLink replaces a person's link.
func (s *People) AddLink(ctx context.Context, l Link, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error { return addLink(tx, l, "make password link", actor) })
}

func addLink(tx *gorm.DB, l Link, what, actor string) error {
	p, err := first[Person](tx.Where("id = ?", l.PersonID))
	if err != nil {
		return err
	}
	if err := tx.Where("person_id = ? OR expires_at < ?", l.PersonID, l.MadeAt).Delete(&Link{}).Error; err != nil {
		return err
	}
	if err := tx.Create(&l).Error; err != nil {
		return err
	}
	return note(tx, actor, what, p.Name)
}

// LinkOf finds whom a link is for. The error is ErrLink.
func (s *People) LinkOf(ctx context.Context, secret string, now time.Time) (Person, Link, error) {
	return linkOf(s.reading(ctx), secret, now)
}

func linkOf(db *gorm.DB, secret string, now time.Time) (p Person, l Link, err error) {
	l, err = first[Link](db.Where("hash = ? AND expires_at > ?", HashKey(secret), now.UTC()))
	if err == nil {
		p, err = first[Person](db.Where("id = ? AND locked_at IS NULL", l.PersonID))
	}
	if errors.Is(err, ErrNotFound) {
		err = ErrLink
	}
	return p, l, err
}

// UseLink keeps the password that a person chose by a link, in one commit with the link's end. Her sessions end. The
// error is ErrLink where the link was used meanwhile.
func (s *People) UseLink(ctx context.Context, secret, password string, now time.Time) (p Person, err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		var l Link
		if p, l, err = linkOf(tx, secret, now); err != nil {
			return err
		}
		if err := tx.Delete(&l).Error; err != nil {
			return err
		}
		return setPassword(tx, &p, password, "", "choose password by link")
	})
	return p, err
}

// SetPassword keeps a person's new password. All sessions but the one with the id keep end.
func (s *People) SetPassword(ctx context.Context, id, password, keep string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("id = ?", id))
		if err != nil {
			return err
		}
		return setPassword(tx, &p, password, keep, "change password")
	})
}

func setPassword(tx *gorm.DB, p *Person, password, keep, what string) error {
	p.Password = password
	p.Revision++
	if err := tx.Model(p).Select("password", "revision").Updates(p).Error; err != nil {
		return err
	}
	if err := tx.Where("person_id = ? AND kind = 'session' AND id <> ?", p.ID, keep).Delete(&Key{}).Error; err != nil {
		return err
	}
	return note(tx, p.Name, what, p.Name)
}

// AddKey keeps the hash of a session or token.
func (s *People) AddKey(ctx context.Context, k Key) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("expires_at < ?", k.MadeAt).Delete(&Key{}).Error; err != nil {
			return err
		}
		if err := tx.Create(&k).Error; err != nil {
			return err
		}
		p, err := first[Person](tx.Where("id = ?", k.PersonID))
		if err != nil {
			return err
		}
		if k.Kind != "session" {
			return note(tx, p.Name, "make token", k.Label)
		}
		if err := tx.Model(&p).Update("signed_in_at", k.MadeAt).Error; err != nil {
			return err
		}
		if err := endUnprovenAs(tx, &p); err != nil { // a second factor may be asked since the password was looked at
			return err
		}
		return note(tx, p.Name, "sign in", p.Name)
	})
}

// Keys lists sessions and tokens that have not expired: of one person, or of all where personID is "". The last used
// come first.
func (s *People) Keys(ctx context.Context, personID string, now time.Time) ([]Key, error) {
	db := s.reading(ctx).Where("expires_at > ?", now.UTC())
	if personID != "" {
		db = db.Where("person_id = ?", personID)
	}
	return list[Key](db.Order("coalesce(used_at, made_at) DESC, id"))
}

// RemoveKey ends a session or token: of one person, or of anybody where personID is "".
func (s *People) RemoveKey(ctx context.Context, id, personID, actor string) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		k, err := first[Key](tx.Where("id = ? AND (person_id = ? OR ? = '')", id, personID, personID))
		if err != nil {
			return err
		}
		p, err := first[Person](tx.Where("id = ?", k.PersonID))
		if err != nil {
			return err
		}
		if err := tx.Delete(&k).Error; err != nil {
			return err
		}
		return note(tx, actor, "end "+k.Kind, p.Name+": "+k.Label)
	})
}

// UseKey notes when, from where and by which program a session or token was used.
func (s *People) UseKey(ctx context.Context, id, place, program string, now time.Time) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Model(&Key{}).Where("id = ?", id).Updates(map[string]any{"used_at": now.UTC(), "place": place,
			"program": program}).Error
	})
}

// ViewerOf finds who holds a session or token. Nobody who is locked holds one.
func (s *People) ViewerOf(ctx context.Context, secret string, now time.Time) (Viewer, Key, error) {
	db := s.reading(ctx)
	k, err := first[Key](db.Where("hash = ? AND expires_at > ?", HashKey(secret), now.UTC()))
	if err != nil {
		return Viewer{}, k, err
	}
	p, err := first[Person](db.Where("id = ? AND locked_at IS NULL", k.PersonID))
	if err != nil {
		return Viewer{}, k, err
	}
	v, err := viewerOf(db, &p)
	if k.Scope == ScopeRead {
		v.Role = Reader // who sees as much as before
	}
	v.Scope = k.Scope
	return v, k, explain(err)
}

// ViewerNamed is what somebody of this name may see and do. ErrNotFound where there is nobody, or she is locked.
func (s *People) ViewerNamed(ctx context.Context, name string) (Viewer, error) {
	db := s.reading(ctx)
	p, err := first[Person](db.Where("name = ? AND locked_at IS NULL", name))
	if err != nil {
		return Viewer{}, err
	}
	v, err := viewerOf(db, &p)
	return v, explain(err)
}

// viewerOf gathers what a person may see: her own rights and those of her groups.
func viewerOf(db *gorm.DB, p *Person) (Viewer, error) {
	v := Viewer{ID: p.ID, Name: p.Name, Role: p.Role, All: p.AllMailboxes, AllCabinets: p.AllCabinets}
	if p.Role == Administrator {
		v.All, v.AllCabinets = true, true
	}
	if v.All && v.AllCabinets {
		return v, nil
	}
	groups, err := list[Group](db.Where("id IN (SELECT group_id FROM members WHERE person_id = ?)", p.ID))
	if err != nil {
		return Viewer{}, err
	}
	holders := []string{p.ID}
	for _, g := range groups {
		holders = append(holders, g.ID)
		v.All, v.AllCabinets = v.All || g.AllMailboxes, v.AllCabinets || g.AllCabinets
	}
	grants, err := list[Grant](db.Where("holder IN ?", holders).Order("kind, object"))
	r := Rights{}
	for _, g := range grants {
		r.add(g)
	}
	v.Only, v.Cabinets = append([]string{}, r.Mailboxes...), append([]string{}, r.Cabinets...)
	return v, err
}

// sees narrows a query to the viewer's mailboxes.
func (v Viewer) sees(db *gorm.DB, column string) *gorm.DB {
	if v.All {
		return db
	}
	return db.Where(column+" IN ?", append([]string{""}, v.Only...))
}

// seesFiled narrows a query about items or lines of the register to the viewer's mailboxes and cabinets.
func (v Viewer) seesFiled(db *gorm.DB) *gorm.DB {
	if db = v.sees(db, "mailbox_id"); v.AllCabinets {
		return db
	}
	return db.Where("cabinet_id IN ?", append([]string{""}, v.Cabinets...))
}

// seesCabinets narrows a query about cabinets.
func (v Viewer) seesCabinets(db *gorm.DB) *gorm.DB {
	if v.AllCabinets {
		return db
	}
	return db.Where("id IN ?", append([]string{""}, v.Cabinets...))
}

// MaySeeCabinet says whether a viewer may see what lies in a cabinet; "" is none.
func (v Viewer) MaySeeCabinet(id string) bool {
	return v.AllCabinets || id == "" || slices.Contains(v.Cabinets, id)
}

// AdministratorLink makes somebody an administrator who chooses a password by a link, in the records of a folder, also
// while a service runs on them. It is for whoever can read the folder, when nobody can sign in any more.
func AdministratorLink(ctx context.Context, folder, name, secret string, now time.Time) (err error) {
	path := filepath.Join(folder, recordsFile)
	if is, err := present(path); err != nil || !is {
		return &OpenError{Problem: "there are no records in " + folder, Advice: "Name the folder of the records with --data.",
			Err: err}
	}
	db, err := open(path, "", 1)
	if err != nil {
		return unreadable(path, err)
	}
	defer func() {
		if pool, poolErr := db.DB(); poolErr == nil {
			err = errors.Join(err, pool.Close())
		}
	}()
	var version int
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return unreadable(path, err)
	}
	if version != newest() {
		return &OpenError{Problem: fmt.Sprintf("the records in %s are of another version of Ink Tray", path),
			Advice: "Start this version's service once, or use the program of the service that runs."}
	}
	const actor = "whoever runs the machine"
	return explain(db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		p, err := first[Person](tx.Where("name = ?", name))
		switch {
		case errors.Is(err, ErrNotFound):
			p = Person{ID: NewID(), Name: name, Role: Administrator, MadeAt: now.UTC(), AllMailboxes: true, AllCabinets: true,
				Revision: 1}
			if err := tx.Create(&p).Error; err != nil {
				return err
			}
		case err != nil:
			return err
		default:
			p.Role, p.LockedAt = Administrator, nil
			if p.HasFactor() { // it may be what was lost
				if err := removeFactor(tx, &p, actor); err != nil {
					return err
				}
			}
			p.Revision++
			if err := tx.Model(&p).Select("role", "locked_at", "revision").Updates(&p).Error; err != nil {
				return err
			}
		}
		return addLink(tx, Link{Hash: HashKey(secret), PersonID: p.ID, MadeBy: actor, MadeAt: now.UTC(),
			ExpiresAt: now.UTC().Add(24 * time.Hour)}, "make administrator link", actor)
	}))
}
