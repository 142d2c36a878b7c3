package files

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"fiume/internal/connect/store"
)

// ResumeAt implements flow.Marked.
func (s *series) ResumeAt(text string, pos int64) error {
	var m mark
	if text != "" {
		if err := json.Unmarshal([]byte(text), &m); err != nil {
			return fmt.Errorf("the mark cannot be read: %w", err)
		}
	}
	b, err := base64.StdEncoding.DecodeString(m.Seen)
	if err != nil {
		return fmt.Errorf("the mark cannot be read: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for ; len(b) >= 8; b = b[8:] {
		s.seen[binary.LittleEndian.Uint64(b)] = seen{}
	}
	s.low, s.pos, s.next, s.resume = m.Low, pos, pos, &m
	s.lowAt = time.Unix(0, m.LowAt)
	return nil
}

// Mark implements flow.Marked.
func (s *series) Mark(pos int64) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := mark{Low: s.low}
	if s.low != "" {
		m.LowAt = s.lowAt.UnixNano()
		if s.saidOf.After(s.lowAt) {
			m.LowAt = s.saidOf.UnixNano()
		}
	}
	var read []byte
	for h := range s.seen {
		read = binary.LittleEndian.AppendUint64(read, h)
	}
	at := false
	for _, l := range s.links {
		if l.end >= 0 && l.end <= pos {
			read = binary.LittleEndian.AppendUint64(read, s.id(l.file))
			continue
		}
		if l.start <= pos {
			at = true
			m.File, m.Offset, m.Tag, m.Key, m.Head, m.Sum, m.Former, m.At = l.file.Name, pos-l.base, l.file.Tag, l.key, l.head, l.sum, l.former, l.file.Changed.UnixNano()
		}
		break
	}
	_, many := s.feed.(*arrivals)
	if n := len(s.links); !at && !many && n > 0 { // what comes behind a file, or that nothing does, is known by that
		l := s.links[n-1]
		m.File, m.Offset, m.Tag, m.Key, m.Head, m.Sum, m.Former, m.At = l.file.Name, pos-l.base, l.file.Tag, l.key, l.head, l.sum, l.former, l.file.Changed.UnixNano()
	}
	if !at && len(s.links) == 0 && s.resume != nil { // it has not begun to read
		m.File, m.Offset, m.Tag, m.Key = s.resume.File, s.resume.Offset, s.resume.Tag, s.resume.Key
		m.Head, m.Sum, m.Former, m.At = s.resume.Head, s.resume.Sum, s.resume.Former, s.resume.At
	}
	if many { // others know by themselves what was read
		m.Seen = base64.StdEncoding.EncodeToString(read)
	}
	b, _ := json.Marshal(m) // texts and numbers
	return string(b)
}

// takes notes that a file is about to be read.
func (s *series) takes(f store.File) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.linked[s.id(f)] = true
}

// known says whether a file of a folder was read, or is being read; and whether it comes behind what is remembered.
func (s *series) known(f store.File, key string) (known, behind bool) {
	h := s.id(f)
	s.mu.Lock()
	defer s.mu.Unlock()
	if was, ok := s.seen[h]; ok {
		was.key = key
		s.seen[h] = was
		return true, false
	}
	if s.linked[h] {
		return true, false
	}
	behind = s.low != "" && key <= s.low
	return behind, behind
}

// lists notes that a listing begins.
func (s *series) lists() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.listed++
	return s.listed
}

// forget drops the files that are gone from what is known one by one: those that a listing of all there is did not give.
func (s *series) forget(listing int, there map[uint64]bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for h, was := range s.seen {
		if !there[h] && was.listing < listing {
			delete(s.seen, h)
		}
	}
	s.bound()
}

// bound keeps what is known one by one small: of the first files in the order a low mark stays. The caller holds the lock.
func (s *series) bound() {
	if len(s.seen) <= remembered+remembered/4 {
		return
	}
	keys := make([]string, 0, len(s.seen))
	for _, was := range s.seen {
		keys = append(keys, was.key)
	}
	slices.Sort(keys)
	low := keys[len(keys)-remembered-1]
	for h, was := range s.seen {
		if was.key != "" && was.key <= low {
			delete(s.seen, h)
		}
	}
	if low > s.low {
		s.low, s.lowAt = low, time.Now()
	}
}
