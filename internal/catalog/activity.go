package catalog

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Activity is one thing that somebody did, or was refused.
type Activity struct {
	ID      uint      `gorm:"primaryKey" json:"id"`
	At      time.Time `gorm:"precision:6;index" json:"at"`
	Actor   string    `gorm:"size:100;not null" json:"actor"`
	Via     string    `gorm:"size:100;not null;default:''" json:"via,omitempty" doc:"how it was shown who it is: session, token …"`
	Address string    `gorm:"size:60;not null;default:''" json:"address,omitempty" doc:"where from"`
	Action  string    `gorm:"size:60;not null" json:"action"`
	Object  string    `gorm:"size:190;not null" json:"object"`
	Detail  string    `gorm:"type:text" json:"detail,omitempty"`
	// Chain is the hash of the entry and of the chain of the one before, so that one which was changed or removed shows. "": the entry is
	// from before there were chains.
	Chain string `gorm:"size:64;not null;default:''" json:"chain,omitempty" doc:"SHA-256 of this entry behind the chain of the one before, in hexadecimal"`
}

// Link gives the chain of an entry behind the chain of the one before, "" for the first: SHA-256 over that chain, the time in microseconds of
// Unix, and the texts from actor to detail, each behind its length in bytes (8 bytes, big endian).
func (a *Activity) Link(before string) string {
	h := sha256.New()
	n := make([]byte, 8)
	text := func(s string) {
		binary.BigEndian.PutUint64(n, uint64(len(s)))
		h.Write(n)
		h.Write([]byte(s))
	}
	text(before)
	binary.BigEndian.PutUint64(n, uint64(a.At.UnixMicro()))
	h.Write(n)
	for _, s := range []string{a.Actor, a.Via, a.Address, a.Action, a.Object, a.Detail} {
		text(s)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Actor is who does something, as functions pass it in one text: a name, and behind tabs how it was shown and where from.
func Actor(name, via, address string) string {
	if via == "" && address == "" {
		return name
	}
	return name + "\t" + via + "\t" + address
}

// ActorOf takes such a text apart.
func ActorOf(text string) (name, via, address string) {
	name, rest, _ := strings.Cut(text, "\t")
	via, address, _ = strings.Cut(rest, "\t")
	return name, via, address
}

// actorName gives the name alone.
func actorName(text string) string {
	name, _, _ := ActorOf(text)
	return name
}

func newActivity(actor, action, object, detail string) Activity {
	a := Activity{At: time.Now().UTC().Truncate(time.Microsecond), Action: action, Object: object, Detail: detail}
	a.Actor, a.Via, a.Address = ActorOf(actor)
	return a
}

// Note adds to the activity log. Its order is that of the chain.
func (s *Store) Note(actor, action, object, detail string) error {
	s.noting.Lock()
	defer s.noting.Unlock()
	if !s.chained { // at first, and where it is not known whether the last one is there
		var last Activity
		err := s.db.Order("id DESC").Take(&last).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		s.chain = last.Chain
		if last.ID == 0 { // all may have been removed for their age
			if s.chain, err = s.begins(); err != nil {
				return err
			}
		}
	}
	a := newActivity(actor, action, object, detail)
	a.Chain = a.Link(s.chain)
	err := s.db.Create(&a).Error
	s.chain, s.chained = a.Chain, err == nil
	return err
}

// Activity gives entries of the log, the newest first: those before an entry, 0 for all, and about an object, "" for all.
func (s *Store) Activity(before uint, object string, limit int) (out []Activity, err error) {
	q := s.db.Order("id DESC").Limit(limit)
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	if object != "" {
		q = q.Where("object = ?", object)
	}
	return out, q.Find(&out).Error
}

// ActivityBehind gives entries of the log in their order, those behind an entry.
func (s *Store) ActivityBehind(id uint, limit int) (out []Activity, err error) {
	return out, s.db.Order("id").Where("id > ?", id).Limit(limit).Find(&out).Error
}

// Kinds of what is kept whole; see Kept.
const keptChain = "chain"

// begins gives the chain of the entry that was removed last for its age.
func (s *Store) begins() (string, error) {
	all, err := s.Kept(keptChain)
	if err != nil || len(all) == 0 {
		return "", err
	}
	return all[0].Data, nil
}

// ForgetActivity removes entries that are older than a time, and says how many. Where the chain goes on is kept.
func (s *Store) ForgetActivity(before time.Time) (n int64, err error) {
	s.noting.Lock()
	defer s.noting.Unlock()
	var last Activity
	err = s.db.Order("id DESC").Where("at < ?", before.UTC()).Take(&last).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	return n, s.db.Transaction(func(tx *gorm.DB) error {
		r := tx.Where("id <= ?", last.ID).Delete(&Activity{})
		n = r.RowsAffected
		if r.Error != nil {
			return r.Error
		}
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&Kept{Kind: keptChain, ID: "begins", Data: last.Chain}).Error
	})
}

// Proof is what a look at the chain of the activity log has found.
type Proof struct {
	Entries int    `json:"entries"`
	Newest  string `json:"newest,omitempty" doc:"the chain of the newest entry: kept elsewhere, it shows whether the newest ones were removed"`
	Broken  uint   `json:"broken,omitempty" doc:"the first entry that does not follow the one before: it was changed, or one before it was removed"`
}

// Prove follows the chain of the activity log.
func (s *Store) Prove() (p Proof, err error) {
	begins, err := s.begins()
	if err != nil {
		return p, err
	}
	return prove(begins, s.ActivityBehind)
}

func prove(chain string, behind func(id uint, limit int) ([]Activity, error)) (p Proof, err error) {
	const atOnce = 5000
	for last := uint(0); ; {
		all, err := behind(last, atOnce)
		if err != nil {
			return p, err
		}
		for i := range all {
			a := &all[i]
			p.Entries++
			switch want := a.Link(chain); {
			case a.Chain == want:
			case a.Chain == "" && p.Newest == "" && chain == "": // from before there were chains
				continue
			case p.Broken == 0:
				p.Broken = a.ID
			}
			chain, p.Newest = a.Chain, a.Chain
		}
		if len(all) < atOnce {
			return p, nil
		}
		last = all[len(all)-1].ID
	}
}

// Kept is something that is kept whole, as JSON: people, tokens, sessions, grants, links.
type Kept struct {
	Kind      string `gorm:"primaryKey;size:20"`
	ID        string `gorm:"primaryKey;size:190"`
	Data      string `gorm:"type:longtext;not null"`
	UpdatedAt time.Time
}

// TableName says where they are.
func (Kept) TableName() string { return "kept" }

// Kept gives all of a kind in the order of their ids.
func (s *Store) Kept(kind string) (out []Kept, err error) {
	return out, s.db.Where("kind = ?", kind).Order("id").Find(&out).Error
}

// Keep keeps something, in place of what has its kind and id.
func (s *Store) Keep(kind, id, data string) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&Kept{Kind: kind, ID: id, Data: data}).Error
}

// Unkeep forgets something.
func (s *Store) Unkeep(kind, id string) error {
	return s.db.Where("kind = ? AND id = ?", kind, id).Delete(&Kept{}).Error
}

// Kept is as Store.Kept.
func (m *Memory) Kept(kind string) (out []Kept, err error) {
	return out, m.do("Kept", func() error {
		for _, k := range m.kept {
			if k.Kind == kind {
				out = append(out, k)
			}
		}
		return nil
	})
}

// Keep is as Store.Keep.
func (m *Memory) Keep(kind, id, data string) error {
	return m.do("Keep", func() error {
		m.unkeep(kind, id)
		m.kept = append(m.kept, Kept{kind, id, data, time.Now()})
		return nil
	})
}

// Unkeep is as Store.Unkeep.
func (m *Memory) Unkeep(kind, id string) error {
	return m.do("Unkeep", func() error { m.unkeep(kind, id); return nil })
}

func (m *Memory) unkeep(kind, id string) {
	for i, k := range m.kept {
		if k.Kind == kind && k.ID == id {
			m.kept = append(m.kept[:i:i], m.kept[i+1:]...)
			return
		}
	}
}

// Note is as Store.Note.
func (m *Memory) Note(actor, action, object, detail string) error {
	return m.do("Note", func() error {
		a := newActivity(actor, action, object, detail)
		before := ""
		if n := len(m.activity); n > 0 {
			before = m.activity[n-1].Chain
		}
		a.ID, a.Chain = m.next(), a.Link(before)
		m.activity = append(m.activity, a)
		return nil
	})
}

// Activity is as Store.Activity.
func (m *Memory) Activity(before uint, object string, limit int) (out []Activity, err error) {
	return out, m.do("Activity", func() error {
		out = newestFirst(m.activity, func(a Activity) bool {
			return (before == 0 || a.ID < before) && (object == "" || a.Object == object)
		})
		out = out[:min(len(out), limit)]
		return nil
	})
}

// String writes a proof for people.
func (p Proof) String() string {
	if p.Broken > 0 {
		return fmt.Sprintf("entry %d does not follow the one before it: it was changed, or one before it was removed", p.Broken)
	}
	if p.Newest == "" {
		return fmt.Sprintf("%d entries, all from before there were chains", p.Entries)
	}
	return fmt.Sprintf("%d entries, each behind the one before it; the newest is %s", p.Entries, p.Newest)
}
