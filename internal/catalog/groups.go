package catalog

import "gorm.io/gorm/clause"

// PutOffsets keeps how far groups are, all of it or nothing.
func (s *Store) PutOffsets(offsets []GroupOffset) error {
	if len(offsets) == 0 {
		return nil
	}
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(offsets, 500).Error
}

// Offsets gives how far a group is, in the order of topics and partitions.
func (s *Store) Offsets(group string) (out []GroupOffset, err error) {
	return out, s.db.Where("group_name = ?", group).Order("topic, partition_number").Find(&out).Error
}

// GroupNames lists the groups that have offsets.
func (s *Store) GroupNames() (out []string, err error) {
	return out, s.db.Model(&GroupOffset{}).Distinct().Order("group_name").Pluck("group_name", &out).Error
}

// DropOffsets forgets how far a group is in a topic; "" stands for all groups, or all topics.
func (s *Store) DropOffsets(group, topic string) error {
	q := s.db.Where("1 = 1")
	if group != "" {
		q = q.Where("group_name = ?", group)
	}
	if topic != "" {
		q = q.Where("topic = ?", topic)
	}
	return q.Delete(&GroupOffset{}).Error
}
