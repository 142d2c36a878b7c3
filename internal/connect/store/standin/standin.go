// Package standin is an object store in memory, for tests and for trying.
package standin

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// Store is an object store in memory. The package that keeps the objects lets everybody in; what comes before it looks at keys.
type Store struct {
	kept        http.Handler
	key, secret string
}

// New makes an object store with empty buckets. Where key is not "" it alone is let in, with its secret.
func New(key, secret string, buckets ...string) (*Store, error) {
	in := s3mem.New()
	for _, b := range buckets {
		if err := in.CreateBucket(b); err != nil {
			return nil, fmt.Errorf("the bucket %q cannot be made: %w", b, err)
		}
	}
	return &Store{gofakes3.New(in, gofakes3.WithTimeSkewLimit(0)).Server(), key, secret}, nil
}

// ServeHTTP implements http.Handler.
func (s *Store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if code := s.refuses(r); code != "" {
		refuse(w, http.StatusForbidden, code)
		return
	}
	if given := r.Header.Get(sumHeader); given != "" && r.Method == http.MethodPut {
		b, err := io.ReadAll(r.Body)
		if err != nil {
			return // who sent it is gone
		}
		if sum := crc32.Checksum(b, castagnoli); base64.StdEncoding.EncodeToString(binary.BigEndian.AppendUint32(nil, sum)) != given {
			refuse(w, http.StatusBadRequest, "BadDigest")
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(b))
	}
	s.kept.ServeHTTP(w, r)
}

// sumHeader has the checksum (CRC32C, Castagnoli) of a body; the package that keeps objects compares MD5 alone.
const sumHeader = "X-Amz-Checksum-Crc32c"

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	fmt.Fprintf(w, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Error><Code>%s</Code><Message>%s</Message></Error>", code, code)
}

// refuses checks the signature of a request, version 4, in its header.
func (s *Store) refuses(r *http.Request) string {
	if s.key == "" {
		return ""
	}
	fields, ok := strings.CutPrefix(r.Header.Get("Authorization"), "AWS4-HMAC-SHA256 ")
	if !ok {
		return "AccessDenied"
	}
	given := map[string]string{}
	for f := range strings.SplitSeq(fields, ",") {
		k, v, _ := strings.Cut(strings.TrimSpace(f), "=")
		given[k] = v
	}
	scope := strings.Split(given["Credential"], "/") // key, day, region, service, end
	if len(scope) != 5 || scope[0] != s.key {
		return "InvalidAccessKeyId"
	}
	names := strings.Split(given["SignedHeaders"], ";")
	var headers strings.Builder
	for _, n := range names {
		v := strings.Join(r.Header.Values(n), ",")
		if n == "host" {
			v = r.Host
		}
		if n == "content-length" {
			v = fmt.Sprint(r.ContentLength)
		}
		fmt.Fprintf(&headers, "%s:%s\n", n, strings.TrimSpace(v))
	}
	var query []string
	for k, vs := range r.URL.Query() {
		for _, v := range vs {
			query = append(query, escaped(k)+"="+escaped(v))
		}
	}
	slices.Sort(query)
	request := strings.Join([]string{r.Method, r.URL.EscapedPath(), strings.Join(query, "&"), headers.String(), given["SignedHeaders"], r.Header.Get("X-Amz-Content-Sha256")}, "\n")
	sum := sha256.Sum256([]byte(request))
	text := strings.Join([]string{"AWS4-HMAC-SHA256", r.Header.Get("X-Amz-Date"), strings.Join(scope[1:], "/"), hex.EncodeToString(sum[:])}, "\n")
	key := []byte("AWS4" + s.secret)
	for _, part := range append(scope[1:], text) {
		m := hmac.New(sha256.New, key)
		m.Write([]byte(part))
		key = m.Sum(nil)
	}
	if !hmac.Equal([]byte(hex.EncodeToString(key)), []byte(given["Signature"])) {
		return "SignatureDoesNotMatch"
	}
	return ""
}

// escaped is a part of a query as it is signed.
func escaped(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }
