package store_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"fiume/internal/connect/store"
	"fiume/internal/connect/store/standin"
	"fiume/internal/core/plan"
	"fiume/internal/core/sql"
)

// TestSums: of an object that is garbled on its way the store says so, whether it is sent whole or in parts and by whichever sum it is compared, and it is sent again.
func TestSums(t *testing.T) {
	in, err := standin.New("timing", "s3cret", "race")
	if err != nil {
		t.Fatal(err)
	}
	var garble, sums atomic.Int64
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			if r.Header.Get("X-Amz-Checksum-Crc32c") != "" {
				sums.Add(1)
			}
			if garble.Add(-1) == 0 {
				b, _ := io.ReadAll(r.Body)
				b[len(b)/2] ^= 1
				r.Body = io.NopCloser(bytes.NewReader(b))
			}
		}
		in.ServeHTTP(w, r)
	}))
	defer front.Close()
	data := make([]byte, 40<<20) // three parts
	r := rand.New(rand.NewPCG(1, 2))
	for i := 0; i < len(data); i += 8 {
		copy(data[i:], fmt.Appendf(nil, "%08x", r.Uint32()))
	}
	for _, sum := range []string{"", "md5", "crc32c"} {
		e := &plan.Endpoint{Name: "far", Place: "files", Address: strings.Replace(front.URL, "http://", "http://timing@", 1), Secret: "far", Options: plan.Options{}}
		if sum != "" {
			e.Options["checksum"] = sql.Option{Word: sum}
		}
		s, err := store.Of(e, func(string, string) (string, error) { return "s3cret", nil }, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, size := range []int{0, 1, 1000, 16 << 20, 16<<20 + 1, len(data)} {
			name := fmt.Sprintf("s3://race/%s-%d", sum, size)
			put := func() error {
				return s.(*store.Far).Put(t.Context(), name, bytes.NewReader(data), int64(size))
			}
			sums.Store(0)
			if size > 0 {
				garble.Store(1 + int64(size/(16<<20+1))) // of parts one that is not the first
				if err := put(); err == nil || !s.Retry(err) || !strings.Contains(err.Error(), "endpoint far") {
					t.Errorf("%s: what was garbled is taken: %v", name, err)
				}
			}
			garble.Store(0)
			if err := put(); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if (sums.Load() > 0) != (sum == "crc32c") {
				t.Errorf("%s: %d sums were sent", name, sums.Load())
			}
			o, err := s.Open(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			got, err := io.ReadAll(io.NewSectionReader(o, 0, o.File().Size))
			if err != nil || !bytes.Equal(got, data[:size]) {
				t.Errorf("%s holds %d bytes, others than were sent: %v", name, len(got), err)
			}
			o.Close()
		}
	}
}
