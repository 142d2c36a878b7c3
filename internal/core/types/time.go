package types

import (
	"encoding/binary"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
)

// Units of time in microseconds, the resolution of TIMESTAMP and INTERVAL.
const (
	Microsecond int64 = 1
	Millisecond       = 1000 * Microsecond
	Second            = 1000 * Millisecond
	Minute            = 60 * Second
	Hour              = 60 * Minute
	Day               = 24 * Hour
	Week              = 7 * Day
)

// MinTime and MaxTime stand for "before everything" and "after everything" wherever event times,
// stamps and watermarks are compared. They are far enough from the ends of int64 that adding a
// lateness or a window length does not wrap.
const (
	MinTime int64 = math.MinInt64 / 4
	MaxTime int64 = math.MaxInt64 / 4
)

// The instants TIMESTAMP can hold: years 0001 to 9999.
var (
	FirstTimestamp = time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()
	LastTimestamp  = time.Date(9999, 12, 31, 23, 59, 59, 999999000, time.UTC).UnixMicro()
)

// DaysFromCivil gives the days since 1970-01-01 of a proleptic Gregorian date. The method is Howard
// Hinnant's "chrono-Compatible Low-Level Date Algorithms", days_from_civil.
func DaysFromCivil(y, m, d int) int64 {
	if m <= 2 {
		y--
	}
	era := y / 400
	if y < 0 {
		era = (y - 399) / 400
	}
	yoe := y - era*400
	mp := (m + 9) % 12
	doy := (153*mp+2)/5 + d - 1
	doe := yoe*365 + yoe/4 - yoe/100 + doy
	return int64(era)*146097 + int64(doe) - 719468
}

// CivilFromDays is the inverse of DaysFromCivil.
func CivilFromDays(z int64) (y, m, d int) {
	z += 719468
	era := z / 146097
	if z < 0 {
		era = (z - 146096) / 146097
	}
	doe := z - era*146097
	yoe := (doe - doe/1460 + doe/36524 - doe/146096) / 365
	doy := doe - (365*yoe + yoe/4 - yoe/100)
	mp := (5*doy + 2) / 153
	d = int(doy - (153*mp+2)/5 + 1)
	m = int(mp + 3)
	if m > 12 {
		m -= 12
	}
	y = int(yoe + era*400)
	if m <= 2 {
		y++
	}
	return y, m, d
}

func monthDays(y, m int) int {
	switch m {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if y%4 == 0 && (y%100 != 0 || y%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

func twoDigits(s []byte) int {
	a, b := s[0]-'0', s[1]-'0'
	if a > 9 || b > 9 {
		return -1
	}
	return int(a)*10 + int(b)
}

// ParseDate reads YYYY-MM-DD and gives days since 1970-01-01.
func ParseDate(s []byte) (int64, bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return 0, false
	}
	hi, lo, m, d := twoDigits(s), twoDigits(s[2:]), twoDigits(s[5:]), twoDigits(s[8:])
	if hi < 0 || lo < 0 || m < 1 || m > 12 || d < 1 {
		return 0, false
	}
	y := hi*100 + lo
	if y < 1 || d > monthDays(y, m) {
		return 0, false
	}
	return DaysFromCivil(y, m, d), true
}

// ParseTimestamp reads an ISO 8601 instant: a date, 'T' or a blank, a time with up to nine fraction
// digits (those past microseconds are cut), and 'Z', an offset, or nothing for UTC. A date alone is
// its first instant. The result is in microseconds.
func ParseTimestamp(s []byte) (int64, bool) {
	if len(s) < 10 {
		return 0, false
	}
	days, ok := ParseDate(s[:10])
	if !ok {
		return 0, false
	}
	if len(s) == 10 {
		return days * Day, true
	}
	tod, ok := parseTimeOfDay(s[10:])
	return days*Day + tod, ok && inRange(days*Day+tod)
}

// inRange says whether a TIMESTAMP can hold an instant: with an offset, one of the first or last day may lie outside.
func inRange(at int64) bool { return at >= FirstTimestamp && at <= LastTimestamp }

// parseTimeOfDay reads what follows the date, its separator included.
func parseTimeOfDay(s []byte) (int64, bool) {
	if len(s) < 6 || (s[0] != 'T' && s[0] != ' ' && s[0] != 't') || s[3] != ':' {
		return 0, false
	}
	h, m, sec := twoDigits(s[1:]), twoDigits(s[4:]), 0
	s = s[6:]
	var frac int64
	if len(s) >= 3 && s[0] == ':' {
		sec = twoDigits(s[1:])
		s = s[3:]
		if len(s) > 1 && s[0] == '.' {
			n := 1
			scale := int64(100_000)
			for ; n < len(s) && s[n]-'0' <= 9; n++ {
				frac += int64(s[n]-'0') * scale
				scale /= 10
			}
			if n == 1 || n > 10 {
				return 0, false
			}
			s = s[n:]
		}
	}
	if h < 0 || h > 23 || m < 0 || m > 59 || sec < 0 || sec > 59 {
		return 0, false
	}
	t := int64(h)*Hour + int64(m)*Minute + int64(sec)*Second + frac
	switch {
	case len(s) == 0, len(s) == 1 && (s[0] == 'Z' || s[0] == 'z'):
		return t, true
	case len(s) == 6 && s[3] == ':' && (s[0] == '+' || s[0] == '-'):
		oh, om := twoDigits(s[1:]), twoDigits(s[4:])
		if oh < 0 || oh > 23 || om < 0 || om > 59 {
			return 0, false
		}
		off := int64(oh)*Hour + int64(om)*Minute
		if s[0] == '-' {
			off = -off
		}
		return t - off, true
	}
	return 0, false
}

// TimeParser is ParseTimestamp for runs of instants on the same day: it remembers the last date read.
// The zero value is ready; it is not safe for use by several goroutines.
type TimeParser struct {
	date   [10]byte
	base   int64
	minute [2]uint64 // the first sixteen bytes of the last instant with milliseconds
	start  int64     // of that minute
}

// Parse reads one instant.
func (p *TimeParser) Parse(s []byte) (int64, bool) {
	if len(s) == 24 {
		// Ends like ":59.969Z" behind a minute that was read before: the marks stand where they should,
		// and what is left are digits.
		le := binary.LittleEndian
		x := le.Uint64(s[16:]) ^ 0x5a3030302e30303a
		if le.Uint64(s) == p.minute[0] && le.Uint64(s[8:]) == p.minute[1] &&
			x&0xff000000ff0000ff == 0 && (x+0x7676767676767676|x)&0x8080808080808080 == 0 && x>>8&0xff < 6 {
			sec := int64(x>>8&0xff*10 + x>>16&0xff)
			return p.start + sec*Second + int64(x>>32&0xff*100+x>>40&0xff*10+x>>48&0xff)*Millisecond, true
		}
	}
	if len(s) < 20 {
		return ParseTimestamp(s)
	}
	if string(s[:10]) != string(p.date[:]) {
		days, ok := ParseDate(s[:10])
		if !ok {
			return 0, false
		}
		copy(p.date[:], s)
		p.base = days * Day
	}
	if len(s) == 24 && s[10] == 'T' && s[13] == ':' && s[16] == ':' && s[19] == '.' && s[23] == 'Z' {
		h1, h0, m1, m0, s1, s0 := s[11]-'0', s[12]-'0', s[14]-'0', s[15]-'0', s[17]-'0', s[18]-'0'
		f2, f1, f0 := s[20]-'0', s[21]-'0', s[22]-'0'
		if h1 <= 2 && h0 <= 9 && m1 <= 5 && m0 <= 9 && s1 <= 5 && s0 <= 9 && f2 <= 9 && f1 <= 9 && f0 <= 9 {
			if h := int64(h1)*10 + int64(h0); h < 24 {
				p.minute = [2]uint64{binary.LittleEndian.Uint64(s), binary.LittleEndian.Uint64(s[8:])}
				p.start = p.base + (h*60+int64(m1)*10+int64(m0))*Minute
				sec := h*3600 + (int64(m1)*10+int64(m0))*60 + int64(s1)*10 + int64(s0)
				return p.base + sec*Second + (int64(f2)*100+int64(f1)*10+int64(f0))*Millisecond, true
			}
		}
		return 0, false
	}
	tod, ok := parseTimeOfDay(s[10:])
	return p.base + tod, ok && inRange(p.base+tod)
}

func appendTwo(b []byte, n int64) []byte { return append(b, byte('0'+n/10), byte('0'+n%10)) }

// AppendDate appends YYYY-MM-DD.
func AppendDate(b []byte, days int64) []byte {
	y, m, d := CivilFromDays(days)
	if y < 0 || y > 9999 {
		return strconv.AppendInt(b, days, 10)
	}
	b = appendTwo(appendTwo(b, int64(y/100)), int64(y%100))
	b = appendTwo(append(b, '-'), int64(m))
	return appendTwo(append(b, '-'), int64(d))
}

// AppendTimestamp appends an instant as RFC 3339 in UTC, with milliseconds, or with microseconds
// where the instant has them.
func AppendTimestamp(b []byte, t int64) []byte {
	var w TimeWriter
	return w.Append(b, t)
}

// TimeWriter is AppendTimestamp for runs of instants close together: it remembers the last second
// written. The zero value is ready; it is not safe for use by several goroutines.
type TimeWriter struct {
	sec  int64
	text [20]byte // YYYY-MM-DDTHH:MM:SS.
	have bool
}

// Append appends one instant.
func (w *TimeWriter) Append(b []byte, t int64) []byte {
	sec := t / Second
	us := t % Second
	if us < 0 {
		sec--
		us += Second
	}
	if !w.have || sec != w.sec {
		days := sec / 86400
		s := sec % 86400
		if s < 0 {
			days--
			s += 86400
		}
		x := AppendDate(w.text[:0], days)
		x = appendTwo(append(x, 'T'), s/3600)
		x = appendTwo(append(x, ':'), s/60%60)
		x = appendTwo(append(x, ':'), s%60)
		x = append(x, '.')
		if len(x) != 20 { // a year outside 0..9999, which no TIMESTAMP holds
			return append(b, x...)
		}
		w.sec, w.have = sec, true
	}
	ms := us / 1000
	if us %= 1000; us == 0 {
		var t [24]byte
		copy(t[:], w.text[:])
		t[20], t[21], t[22], t[23] = byte('0'+ms/100), byte('0'+ms/10%10), byte('0'+ms%10), 'Z'
		return append(b, t[:]...)
	}
	b = append(b, w.text[:]...)
	b = append(b, byte('0'+ms/100), byte('0'+ms/10%10), byte('0'+ms%10))
	if us != 0 {
		b = append(b, byte('0'+us/100), byte('0'+us/10%10), byte('0'+us%10))
	}
	return append(b, 'Z')
}

// ParseTimeOfDay reads HH:MM[:SS[.fraction]] and gives microseconds since midnight.
func ParseTimeOfDay(s []byte) (int64, bool) {
	if len(s) == 0 || len(s) > 18 || s[len(s)-1] > '9' || s[len(s)-1] < '0' {
		return 0, false
	}
	var b [19]byte
	b[0] = 'T'
	t, ok := parseTimeOfDay(b[:1+copy(b[1:], s)])
	return t, ok && t >= 0 && t < Day && (len(s) < 6 || s[5] == ':')
}

// AppendTimeOfDay appends HH:MM:SS and the fraction, where there is one.
func AppendTimeOfDay(b []byte, t int64) []byte {
	b = appendTwo(b, t/Hour)
	b = appendTwo(append(b, ':'), t/Minute%60)
	b = appendTwo(append(b, ':'), t/Second%60)
	return appendFraction(b, t%Second)
}

// appendFraction appends a point and the microseconds of a second without the zeros at their end.
func appendFraction(b []byte, us int64) []byte {
	if us == 0 {
		return b
	}
	f := strconv.Itoa(int(Second + us))[1:]
	for f[len(f)-1] == '0' {
		f = f[:len(f)-1]
	}
	return append(append(b, '.'), f...)
}

// AppendInterval appends a length of time as an ISO 8601 duration, such as PT1M30S.
func AppendInterval(b []byte, d int64) []byte {
	if d == 0 {
		return append(b, "PT0S"...)
	}
	if d < 0 {
		b = append(b, '-')
		d = -d
	}
	b = append(b, 'P')
	if n := d / Day; n > 0 {
		b = append(strconv.AppendInt(b, n, 10), 'D')
		d %= Day
	}
	if d == 0 {
		return b
	}
	b = append(b, 'T')
	if n := d / Hour; n > 0 {
		b = append(strconv.AppendInt(b, n, 10), 'H')
	}
	if n := d / Minute % 60; n > 0 {
		b = append(strconv.AppendInt(b, n, 10), 'M')
	}
	if d %= Minute; d > 0 {
		b = strconv.AppendInt(b, d/Second, 10)
		b = append(appendFraction(b, d%Second), 'S')
	}
	return b
}

// ParseInterval reads an ISO 8601 duration of days and shorter units, such as PT1M30S or -P1DT0.5S.
func ParseInterval(s string) (int64, bool) {
	neg := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	if len(s) < 3 || s[0] != 'P' {
		return 0, false
	}
	date := true
	total := int64(0)
	for s = s[1:]; s != ""; {
		if s[0] == 'T' && date && len(s) > 1 {
			date, s = false, s[1:]
			continue
		}
		i := strings.IndexFunc(s, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
		if i < 1 {
			return 0, false
		}
		n, _, scale, ok := ParseDecimal(s[:i])
		unit := int64(0)
		switch {
		case date && s[i] == 'W':
			unit = Week
		case date && s[i] == 'D':
			unit = Day
		case !date && s[i] == 'H':
			unit = Hour
		case !date && s[i] == 'M':
			unit = Minute
		case !date && s[i] == 'S':
			unit = Second
		}
		if !ok || unit == 0 || scale > 12 || n.HighBits() != 0 || n.LowBits() > uint64(MaxTime) {
			return 0, false
		}
		x := new(big.Int).Mul(n.BigInt(), big.NewInt(unit))
		x.Quo(x, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale)), nil))
		if !x.IsInt64() || x.Int64() > MaxTime-total {
			return 0, false
		}
		total += x.Int64()
		s = s[i+1:]
	}
	if neg {
		total = -total
	}
	return total, true
}
