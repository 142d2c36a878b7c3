package files

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/connect/roots"
	"fiume/internal/connect/store"
	"fiume/internal/core/flow"
	"fiume/internal/core/plan"
	"fiume/internal/format"

	"github.com/cespare/xxhash/v2"
)

var described = plan.Place{
	Kind:  "files",
	About: "files of a directory or a pattern ('**' in it stands for directories), below the service's directories for them or, s3://bucket/…, in an object store: lines, also packed with gzip or zstd, Avro, Parquet",
	Example: `DECLARE STREAM old_reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP)
	EVENT TIME read_at DELAY 20 SECONDS
	FROM FILES 'archive/*.csv' (FORMAT csv, DELIMITER ';');
DECLARE STREAM older (chip VARCHAR, read_at TIMESTAMP) FROM FILES 'older/*.parquet' (FORMAT parquet);
DECLARE STREAM come (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP)
	EVENT TIME read_at DELAY 20 SECONDS
	FROM FILES 'inbox/*.csv' (FORMAT csv, FOLLOW true, DONE 'move read');
DECLARE STREAM said (line VARCHAR) FROM FILES 'logs/*.log' (FORMAT text, FOLLOW lines);
DECLARE ENDPOINT archive FILES 'https://timing@10.0.0.7:9000' SECRET 'archive';
DECLARE SINK kept TO FILES 's3://race/kept' VIA archive
	(FORMAT parquet, COMPRESS zstd, PARTITION BY (mat, read_at), EACH hour, ROLL BEHIND 5 MINUTES);
DECLARE STREAM kept_reads (chip VARCHAR, mat VARCHAR, read_at TIMESTAMP) FROM FILES 's3://race/kept/**' VIA archive (FORMAT parquet);`,
	Traits:   plan.Traits{Ends: true, Again: true, LaterSplit: true, Appends: true},
	Endpoint: true, Here: true, Within: store.Within,
	Address: func(address string) error { _, err := store.Address(address); return err },
	Options: store.Options(),
	Given: func(t plan.Traits, o plan.Options) plan.Traits {
		t.Ends = o.Word("follow", "false") == "false"
		return t
	},
	Fits: fits,
	Source: append(rowOptions(format.LineSourceOptions()),
		plan.OptionSpec{Name: "header", Kind: plan.FlagOption, Doc: "CSV: the first record names the columns, which are found by their names; false: by their places", Default: "true"},
		plan.OptionSpec{Name: "follow", Kind: plan.WordOption, Words: []string{"false", "true", "lines"}, Doc: "true: files that come are read, too, each once, as one split in order; lines: files grow, and are rotated, each a split", Default: "false"},
		plan.OptionSpec{Name: "order", Kind: plan.WordOption, Words: []string{"name", "time"}, Doc: "files are read one behind the other as one split, in the order of their names, or of their times of change; without it each is a split, unless FOLLOW true", Default: "name with FOLLOW true"},
		plan.OptionSpec{Name: "rest", Kind: plan.DurationOption, Doc: "with FOLLOW: how long a file must not have been written before it is read; one that is moved in is read at once", Default: "2 SECONDS"},
		plan.OptionSpec{Name: "look every", Kind: plan.DurationOption, Doc: "with FOLLOW: how often it is looked what has come; large folders are listed less often, so that it costs a hundredth of the time", Default: "1 SECOND"},
		plan.OptionSpec{Name: "done", Kind: plan.WordOption, Doc: "with FOLLOW true, in a job of the service: what becomes of a file when a checkpoint has all of it: keep, delete, or 'move DIRECTORY'", Default: "keep"}),
	Table: append(rowOptions(format.LineSourceOptions()),
		plan.OptionSpec{Name: "header", Kind: plan.FlagOption, Doc: "CSV: the first record names the columns, which are found by their names; false: by their places", Default: "true"},
		plan.OptionSpec{Name: "refresh every", Kind: plan.DurationOption, Doc: "how often to look whether a file was written anew; 1 SECOND in a job of the service that joins the table, else files are read once"}),
	Sink: append(rowOptions(format.LineSinkOptions()),
		plan.OptionSpec{Name: "roll every", Kind: plan.DurationOption, Doc: "how long a part file stays open", Default: "1 MINUTE"},
		plan.OptionSpec{Name: "roll rows", Kind: plan.NumberOption, Least: 1, Doc: "a part file with so many rows is closed with the next checkpoint"},
		plan.OptionSpec{Name: "roll megabytes", Kind: plan.NumberOption, Least: 1, Doc: "a part file of so many megabytes is closed with the next checkpoint"},
		plan.OptionSpec{Name: "roll behind", Kind: plan.DurationOption, Doc: "with a column of time in PARTITION BY: the part of an hour, day, month or year is closed when rows have come that are so far behind its end"},
		plan.OptionSpec{Name: "partition by", Kind: plan.NamesOption, Doc: "columns whose values make a directory for their rows, mat=km-05/day=2026-05-17; one of time stands for its EACH"},
		plan.OptionSpec{Name: "each", Kind: plan.WordOption, Words: []string{"hour", "day", "month", "year"}, Doc: "what a column of time in PARTITION BY stands for", Default: "day"},
		plan.OptionSpec{Name: "compress", Kind: plan.WordOption, Words: []string{"none", "gzip", "zstd"}, Doc: "how part files are packed", Default: "none"}),
	Promise: func(*plan.Op) string {
		return "each row once, in part files that are moved into place whole, or become objects, when a checkpoint has them"
	},
}

// rowOptions adds the formats of files that hold rows by themselves.
func rowOptions(specs []plan.OptionSpec) []plan.OptionSpec {
	specs[0].Words = append(specs[0].Words, format.RowFormats...)
	specs[0].Doc = "how files are written: lines of json, csv, or text, which is one VARCHAR column; or avro or parquet, which hold rows and tell their columns"
	return specs
}

const (
	// DefaultPiece is the size of the pieces that workers decode, in bytes.
	DefaultPiece = 1 << 19
	longestLine  = 64 << 20
)

// Source is the files of a stream; each is a split.
type Source struct{ splits []flow.Split }

// Open lists the files of a scan. They are read in pieces of about so many bytes; those of a table that does
// not say otherwise are looked at again so often, 0: never.
func Open(scan *plan.Op, piece int, watch time.Duration, within *roots.Roots) (*Source, error) {
	s := scan.Stream
	names, err := within.Files(s.Address)
	if err != nil {
		return nil, err
	}
	if len(names) > mostObjects {
		return nil, fmt.Errorf("more than %d files fit %s: write (ORDER name), and they are read one behind the other", mostObjects, s.Address)
	}
	near, err := store.Of(nil, nil, within)
	if err != nil {
		return nil, err
	}
	src := &Source{}
	for _, n := range names {
		f, err := near.Open(context.Background(), n)
		if err != nil {
			return nil, errors.Join(err, src.closeAll())
		}
		sp := &split{within: near, name: n, file: f, stream: s, used: scan.Used, format: s.Options.Word("format", "json"), piece: piece, fresh: true}
		if scan.OfTable != nil && scan.OfTable.Arrival() && scan.Until.Kind == plan.Default {
			sp.refresh = time.Duration(s.Options.Duration("refresh every", watch.Microseconds())) * time.Microsecond
		}
		src.splits = append(src.splits, sp)
		sp.at = f.File().Changed.UnixMicro()
		if err := sp.begin(); err != nil {
			return nil, errors.Join(fmt.Errorf("%s: %w", n, err), src.closeAll())
		}
	}
	return src, nil
}

// Splits implements flow.Source.
func (s *Source) Splits() []flow.Split { return s.splits }

// OnData implements flow.Source. Files end; none has more later.
func (s *Source) OnData(func()) {}

// Close implements flow.Source. The splits are closed one by one.
func (s *Source) Close() error { return nil }

func (s *Source) closeAll() error {
	var errs []error
	for _, sp := range s.splits {
		errs = append(errs, sp.Close())
	}
	return errors.Join(errs...)
}

// split reads one file in pieces of whole lines. Positions are byte offsets; places are shown as lines.
type split struct {
	name     string
	within   store.Store
	file     store.Object
	in       io.ReaderAt    // the file, or what is packed in it
	rows     format.RowFile // of a file that holds rows by itself
	editions editions
	stream   *plan.Stream
	used     *plan.Use
	format   string
	csv      format.CSV
	piece    int
	header   []string
	notice   string // of what is not as declared
	pos      int64
	at       int64 // the file's time of change
	growing  bool  // a line that is not whole has to wait

	// Of a table that is read again when its file has changed:
	refresh time.Duration
	looked  time.Time
	fresh   bool // the next piece is the first one
	waits   bool // the file has been read to its end

	mu    sync.Mutex
	lines []lineMark // places whose lines are known, for Place
}

// lineMark is a byte of a file and its line, from 1.
type lineMark struct{ pos, line int64 }

func (s *split) Name() string    { return s.name }
func (s *split) Position() int64 { return s.pos }

// Close implements flow.Split.
func (s *split) Close() error {
	if p, ok := s.in.(*packed); ok {
		p.shut()
	}
	err := s.editions.shut()
	if s.rows == nil {
		err = errors.Join(err, s.file.Close())
	}
	return err
}

// Place implements flow.Split. Lines are counted when somebody asks, from the nearest place where they
// are known.
func (s *split) Place(pos int64) string {
	if s.rows != nil {
		return fmt.Sprintf("%s row %d", s.name, pos+1)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	at := lineMark{0, 1}
	for _, m := range s.lines {
		if m.pos <= pos && m.pos > at.pos {
			at = m
		}
	}
	f, err := s.within.Open(context.Background(), s.name)
	if err != nil {
		return fmt.Sprintf("%s byte %d", s.name, pos)
	}
	defer f.Close()
	in := io.ReaderAt(f)
	if p, ok := s.in.(*packed); ok {
		p = &packed{file: f, open: p.open}
		defer p.shut()
		in = p
	}
	buf := make([]byte, 1<<18)
	for at.pos < pos {
		n, err := in.ReadAt(buf[:min(int64(len(buf)), pos-at.pos)], at.pos)
		if n == 0 {
			return fmt.Sprintf("%s byte %d (%v)", s.name, pos, err)
		}
		at.line += int64(bytes.Count(buf[:n], []byte{'\n'}))
		at.pos += int64(n)
		if len(s.lines) == 0 || at.pos > s.lines[len(s.lines)-1].pos+8<<20 {
			s.lines = append(s.lines, at)
		}
	}
	return fmt.Sprintf("%s:%d", s.name, at.line)
}

func (s *split) NewDecoder() (flow.Decoder, error) {
	if s.rows != nil {
		return &rowsDecoder{s: s, by: map[uint64]flow.Decoder{}}, nil
	}
	return s.reading().NewDecoder(s.header)
}

// Resume implements flow.Split.
func (s *split) Resume(pos int64) error {
	if s.rows != nil {
		if pos > s.rows.Rows() {
			return fmt.Errorf("the file has %d rows, but had been read up to %d", s.rows.Rows(), pos)
		}
		s.pos = pos
		return nil
	}
	if _, ok := s.in.(*packed); !ok && pos > s.file.File().Size {
		return fmt.Errorf("the file has %d bytes, but had been read up to %d", s.file.File().Size, pos)
	}
	s.pos = pos
	return nil
}

// Endless implements flow.Endless.
func (s *split) Endless() bool { return s.refresh > 0 }

// changed opens the file anew when it was written since it was read.
func (s *split) changed() (bool, error) {
	if time.Since(s.looked) < s.refresh {
		return false, nil
	}
	s.looked = time.Now()
	now, err := s.within.Stat(context.Background(), s.name)
	if err != nil {
		return false, nil // it may be about to be put in place
	}
	if now.Tag == s.file.File().Tag && now.Changed.UnixMicro() == s.at {
		return false, nil
	}
	f, err := s.within.Open(context.Background(), s.name)
	if err != nil {
		return false, err
	}
	if s.rows == nil {
		err = s.Close()
	}
	header := s.header
	s.file, s.at, s.pos, s.fresh, s.waits = f, f.File().Changed.UnixMicro(), 0, true, false
	if err = errors.Join(err, s.begin()); err == nil && !slices.Equal(header, s.header) {
		err = fmt.Errorf("the header of %s has changed from %q to %q; start the job anew", s.name, header, s.header)
	}
	return true, err
}

// begin finds where the first record stands: behind a byte-order mark, and behind the header of CSV.
func (s *split) begin() error {
	if slices.Contains(format.RowFormats, s.format) {
		var err error
		if s.rows, err = s.editions.add(s.file, s.format); err == nil {
			err = s.told()
		}
		return err
	}
	var mark [4]byte
	n, err := s.file.ReadAt(mark[:], 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	s.in = s.file
	if open := unpackerOf(string(mark[:n])); open != nil {
		s.in = &packed{file: s.file, open: open}
		if n, err = s.in.ReadAt(mark[:], 0); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
	}
	for name, begins := range packings {
		if strings.HasPrefix(string(mark[:n]), begins) {
			if slices.Contains(format.RowFormats, strings.ToLower(name)) {
				return fmt.Errorf("the file is %s: write FORMAT %s", name, strings.ToLower(name))
			}
			return fmt.Errorf("the file is %s, which cannot be read as a stream: give it as lines, also packed with gzip or zstd, as Avro or as Parquet", name)
		}
	}
	switch {
	case n >= 3 && string(mark[:3]) == "\xef\xbb\xbf":
		s.pos = 3
	case n >= 2 && (string(mark[:2]) == "\xff\xfe" || string(mark[:2]) == "\xfe\xff"):
		return fmt.Errorf("the file is written in UTF-16; files are read as UTF-8")
	}
	if s.format != "csv" {
		return nil
	}
	if s.csv, err = format.CSVOf(s.stream.Options); err != nil {
		return err
	}
	if !s.stream.Options.Flag("header", true) {
		return nil
	}
	var p flow.Piece
	from := s.pos
	if err := s.read(&p); err != nil {
		if errors.Is(err, io.EOF) {
			return nil
		}
		return err
	}
	blank := len(p.Data) - len(bytes.TrimLeft(p.Data, "\r\n")) // lines before the header
	if blank == len(p.Data) {
		return nil
	}
	p.Data, from = p.Data[blank:], from+int64(blank)
	end, _ := s.csv.RecordEnd(p.Data, 0, true)
	if s.header, err = s.csv.Header(bytes.TrimRight(p.Data[:end], "\r\n")); err != nil {
		return err
	}
	for i, h := range s.header {
		if k := slices.Index(s.header, h); k < i && h != "" {
			return fmt.Errorf("the header has %q twice, as fields %d and %d, so that it does not say which is meant", h, k+1, i+1)
		}
	}
	if err := s.named(); err != nil {
		return err
	}
	return s.Resume(from + int64(end))
}

// hasLine says whether there is a whole line.
func (s *split) hasLine() (bool, error) {
	b := make([]byte, 64<<10)
	for at := int64(0); ; at += int64(len(b)) {
		n, err := s.file.ReadAt(b, at)
		switch {
		case bytes.IndexByte(b[:n], '\n') >= 0 || at > longestLine:
			return true, nil
		case errors.Is(err, io.EOF):
			return false, nil
		case err != nil:
			return false, err
		}
	}
}

// begins gives a sum of the first bytes.
func (s *split) begins(n int) (uint64, error) {
	b := make([]byte, n)
	if _, err := s.file.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return 0, err
	}
	return xxhash.Sum64(b), nil
}

// packings are forms of files that hold others, and how they begin.
var packings = map[string]string{"packed with bzip2": "BZh", "a zip archive": "PK\x03\x04", "Parquet": "PAR1", "Avro": "Obj\x01"}

// named looks which declared columns the header names. Where it names none the file has no header, and its first record is
// a row that would be lost.
func (s *split) named() error {
	var missing []string
	for _, c := range s.stream.Columns {
		if !slices.Contains(s.header, c.Name) {
			missing = append(missing, c.Name)
		}
	}
	switch found := clip(strings.Join(s.header, ", ")); {
	case len(missing) == len(s.stream.Columns):
		return fmt.Errorf("the first record (%s) names none of the columns of %s: where it is a row, write (FORMAT csv, HEADER false), and columns are found by their places", found, s.stream.Name)
	case len(missing) > 0:
		s.notice = fmt.Sprintf("the header (%s) does not name %s, NULL in every row", found, strings.Join(missing, ", "))
	}
	return nil
}

func clip(text string) string {
	if r := []rune(text); len(r) > 120 {
		return string(r[:120]) + "…"
	}
	return text
}

// Notice implements flow.Noticing.
func (s *split) Notice() string { return s.notice }

// probe opens the files of a stream as a job would, and gives what they have to say.
func probe(st *plan.Stream, within *roots.Roots) (files int, notices []string, err error) {
	src, err := Open(&plan.Op{Stream: st, Used: &plan.Use{All: true}}, DefaultPiece, 0, within)
	if err != nil {
		return 0, nil, err
	}
	for _, sp := range src.splits {
		if n := sp.(*split).Notice(); n != "" && len(notices) < 5 {
			notices = append(notices, sp.Name()+": "+n)
		}
	}
	return len(src.splits), notices, src.closeAll()
}

// Next implements flow.Split.
func (s *split) Next(p *flow.Piece) error {
	if s.refresh == 0 {
		return s.read(p)
	}
	if s.waits {
		changed, err := s.changed()
		if err != nil {
			return err
		}
		if !changed {
			return flow.ErrNothing
		}
	}
	p.Fresh = s.fresh
	s.fresh = false
	err := s.read(p)
	if errors.Is(err, io.EOF) {
		s.waits, p.Complete = true, true
		p.Data, p.Base, p.Next = p.Data[:0], s.pos, s.pos
		return nil
	}
	return err
}

// read reads the next piece of the file.
func (s *split) read(p *flow.Piece) error {
	if s.rows != nil {
		return s.readRows(p)
	}
	size := s.piece
	for {
		if cap(p.Data) < size+flow.Pad {
			p.Data = make([]byte, size+flow.Pad)
		}
		buf := p.Data[:size]
		n, err := s.in.ReadAt(buf, s.pos)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if n == 0 {
			return io.EOF
		}
		end := n
		if err == nil || s.growing {
			end = s.cut(buf[:n])
			if end == 0 {
				if err != nil {
					return io.EOF // more of the line comes
				}
				if size >= longestLine {
					return fmt.Errorf("byte %d: a record is longer than %d MB", s.pos, longestLine>>20)
				}
				size *= 2
				continue
			}
		}
		p.Data = buf[:end]
		p.Base, p.Next = s.pos, s.pos+int64(end)
		s.pos = p.Next
		return nil
	}
}

// cut gives the length of the whole records in b, which more follows.
func (s *split) cut(b []byte) int {
	if s.format != "csv" || bytes.IndexByte(b, s.csv.Quote) < 0 {
		return bytes.LastIndexByte(b, '\n') + 1
	}
	for from := 0; ; {
		end, more := s.csv.RecordEnd(b, from, false)
		if more {
			return from
		}
		from = end
	}
}

// Frame implements flow.Split: it finds the lines of a piece. Blank lines are no messages.
func (s *split) Frame(p *flow.Piece) error {
	if s.rows != nil {
		s.frameRows(p)
		return nil
	}
	p.Messages = p.Messages[:0]
	if s.format != "csv" {
		for from := 0; from < len(p.Data); {
			n := bytes.IndexByte(p.Data[from:], '\n')
			if n < 0 {
				n = len(p.Data) - from
			}
			if n > 0 && (p.Data[from] > ' ' || !blank(p.Data[from:from+n])) {
				size := n
				if p.Data[from+n-1] == '\r' {
					size--
				}
				p.Messages = append(p.Messages, flow.Message{Off: uint32(from), Len: uint32(size), Pos: p.Base + int64(from), At: s.at})
			}
			from += n + 1
		}
		return nil
	}
	for from := 0; from < len(p.Data); {
		next, _ := s.csv.RecordEnd(p.Data, from, true)
		end := next
		if p.Data[end-1] == '\n' {
			end--
		}
		if end > from && p.Data[end-1] == '\r' {
			end--
		}
		if end > from && !blank(p.Data[from:end]) {
			p.Messages = append(p.Messages, flow.Message{Off: uint32(from), Len: uint32(end - from), Pos: p.Base + int64(from), At: s.at})
		}
		from = next
	}
	return nil
}

func blank(b []byte) bool {
	for _, c := range b {
		if c != ' ' && c != '\t' && c != '\r' {
			return false
		}
	}
	return true
}
