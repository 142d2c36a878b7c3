package catalog

import (
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// PutSample keeps a sample and gives it its number.
func (s *Store) PutSample(x *Sample) error { return s.db.Create(x).Error }

// Samples gives all samples without their messages, the newest first.
func (s *Store) Samples() (out []Sample, err error) {
	return out, s.db.Omit("data").Order("id DESC").Find(&out).Error
}

// SampleOf gives a sample, or nil.
func (s *Store) SampleOf(id uint) (*Sample, error) {
	var out Sample
	err := s.db.Take(&out, id).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &out, err
}

// DropSample forgets a sample and says whether it was there.
func (s *Store) DropSample(id uint) (bool, error) {
	r := s.db.Delete(&Sample{}, id)
	return r.RowsAffected > 0, r.Error
}

// AddSetAside keeps late and rejected rows of a job; of each kind the newest most stay.
func (s *Store) AddSetAside(rows []SetAside, most int) error {
	if len(rows) == 0 {
		return nil
	}
	if err := s.db.CreateInBatches(rows, 200).Error; err != nil {
		return err
	}
	seen := map[[2]string]bool{}
	for _, r := range rows {
		k := [2]string{r.Job, r.Kind}
		if seen[k] {
			continue
		}
		seen[k] = true
		var last []uint
		if err := s.db.Model(&SetAside{}).Where("job = ? AND kind = ?", r.Job, r.Kind).Order("id DESC").Offset(most).Limit(1).Pluck("id", &last).Error; err != nil {
			return err
		}
		if len(last) > 0 {
			if err := s.db.Where("job = ? AND kind = ? AND id <= ?", r.Job, r.Kind, last[0]).Delete(&SetAside{}).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// Looking says which rows set aside somebody wants to see. Empty fields mean all.
type Looking struct {
	Job, Kind, Step, Class, Text string
	Before                       uint // rows with a lower number
	Limit                        int
}

// SetAsides gives rows that were set aside, the newest first.
func (s *Store) SetAsides(l Looking) (out []SetAside, err error) {
	q := s.db.Where("job = ?", l.Job).Order("id DESC").Limit(l.Limit)
	for column, value := range map[string]string{"kind": l.Kind, "step": l.Step, "class": l.Class} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	if l.Text != "" {
		q = q.Where("INSTR(CONCAT_WS(' ', `row`, reason, origin), ?) > 0", l.Text)
	}
	if l.Before > 0 {
		q = q.Where("id < ?", l.Before)
	}
	return out, q.Find(&out).Error
}

// ForgetAsides removes the rows set aside that match, and gives how many.
func (s *Store) ForgetAsides(match func(x *SetAside) bool) (n int, err error) {
	var some []SetAside
	for last := uint(0); ; last = some[len(some)-1].ID {
		if err := s.db.Where("id > ?", last).Order("id").Limit(500).Find(&some).Error; err != nil || len(some) == 0 {
			return n, err
		}
		var ids []uint
		for i := range some {
			if match(&some[i]) {
				ids = append(ids, some[i].ID)
			}
		}
		if len(ids) == 0 {
			continue
		}
		if err := s.db.Delete(&SetAside{}, ids).Error; err != nil {
			return n, err
		}
		n += len(ids)
	}
}

// SetAsideOf gives a row that was set aside, or nil.
func (s *Store) SetAsideOf(id uint) (*SetAside, error) {
	var out SetAside
	err := s.db.Take(&out, id).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &out, err
}

// Sent notes that a row was mended and sent again.
func (s *Store) Sent(id uint, at time.Time, actor string) error {
	return s.db.Model(&SetAside{}).Where("id = ?", id).Updates(map[string]any{"sent_at": at, "sent_by": actorName(actor)}).Error
}

// AddReasons adds to the counts of rejected rows.
func (s *Store) AddReasons(counts []ReasonCount) error {
	if len(counts) == 0 {
		return nil
	}
	return s.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "job"}, {Name: "step"}, {Name: "class"}},
		DoUpdates: clause.Assignments(map[string]any{"count": gorm.Expr("`count` + VALUES(`count`)")})}).Create(&counts).Error
}

// Reasons gives the counts of a job's rejected rows, the most frequent first.
func (s *Store) Reasons(job string) (out []ReasonCount, err error) {
	return out, s.db.Where("job = ?", job).Order("`count` DESC, id").Find(&out).Error
}

// AddMinutes keeps what jobs did in a minute, and forgets what lies before an instant.
func (s *Store) AddMinutes(points []Minute, before time.Time) error {
	if len(points) > 0 {
		if err := s.db.Create(&points).Error; err != nil {
			return err
		}
	}
	return s.db.Where("at < ?", before).Delete(&Minute{}).Error
}

// Minutes gives what a job did from an instant on, in order.
func (s *Store) Minutes(job string, since time.Time) (out []Minute, err error) {
	return out, s.db.Where("job = ? AND at >= ?", job, since).Order("at").Find(&out).Error
}
