package store

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"sync"
	"syscall"
	"time"

	"fiume/internal/connect/trust"
	"fiume/internal/core/plan"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

const (
	// mayAnswer is how long an object store may take for one answer.
	mayAnswer = 15 * time.Second
	// chunk is how many bytes of an object are fetched at once.
	chunk = 4 << 20
	// part is how many bytes of an object are sent at once.
	part = 16 << 20
)

// Options are the options of an endpoint of an object store.
func Options() []plan.OptionSpec {
	return append([]plan.OptionSpec{
		{Name: "region", Kind: plan.WordOption, Doc: "an object store: the region that requests are signed for", Default: "us-east-1"},
		{Name: "checksum", Kind: plan.WordOption, Words: []string{"md5", "crc32c"}, Doc: "an object store: what it compares objects that it gets with. crc32c costs a tenth, and older stores take it without comparing", Default: "md5"},
		{Name: "style", Kind: plan.WordOption, Words: []string{"path", "host"}, Doc: "an object store: whether a bucket stands in the path or in the name of the host", Default: "path"},
	}, trust.Certificates()...)
}

// Address reads the address of an object store, http(s)://[key@]host[:port].
func Address(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, errors.New("the address is not of the form https://host:port or https://key@host:port")
	}
	if _, ok := u.User.Password(); ok {
		return nil, errors.New("the secret part of a key does not belong into the address; write SECRET 'name', and keep it with: fiume secret set name")
	}
	if u.Path != "" && u.Path != "/" || u.RawQuery != "" || u.Fragment != "" {
		return nil, errors.New("the address of an object store ends with its host and port; buckets stand in the addresses of FILES")
	}
	return u, nil
}

// split takes an address s3://bucket/key apart.
func split(address string) (bucket, key string, err error) {
	bucket, key, _ = strings.Cut(strings.TrimPrefix(address, Scheme), "/")
	if bucket == "" || strings.ContainsAny(bucket, "*?[{ ") {
		return "", "", fmt.Errorf("%s names no bucket: addresses are like s3://bucket/reads/*.json", address)
	}
	return bucket, key, nil
}

// Far is the buckets of an object store behind an endpoint.
type Far struct {
	e   *plan.Endpoint
	c   *minio.Client
	crc bool // what it gets it compares by CRC32C, else by MD5
}

// openFar makes a client. It does not connect yet.
func openFar(e *plan.Endpoint, secret func(name, address string) (string, error)) (*Far, error) {
	u, err := Address(e.Address)
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	tls, err := trust.Always(e, secret)
	if err != nil {
		return nil, err
	}
	// Whoever names no key reads what is there for all.
	keys := credentials.NewStatic("", "", "", credentials.SignatureAnonymous)
	user := u.User.Username()
	switch {
	case user == "" && e.Secret != "":
		return nil, fmt.Errorf("endpoint %s has a secret and no key: write the name of the key before the address, https://key@host", e.Name)
	case user != "" && e.Secret == "":
		return nil, fmt.Errorf("endpoint %s names a key and no SECRET", e.Name)
	case user != "":
		s, err := secret(e.Secret, e.Address)
		if err != nil {
			return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
		}
		keys = credentials.NewStaticV4(user, s, "")
	}
	style := minio.BucketLookupPath
	if e.Options.Word("style", "path") == "host" {
		style = minio.BucketLookupDNS
	}
	c, err := minio.New(u.Host, &minio.Options{Creds: keys, Secure: u.Scheme == "https", Region: e.Options.Word("region", "us-east-1"), BucketLookup: style, MaxRetries: 1,
		Transport: &http.Transport{TLSClientConfig: tls, Proxy: http.ProxyFromEnvironment, DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
			TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: mayAnswer, MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute, DisableCompression: true}})
	if err != nil {
		return nil, fmt.Errorf("endpoint %s: %w", e.Name, err)
	}
	return &Far{e, c, e.Options.Word("checksum", "md5") == "crc32c"}, nil
}

// Far implements Store.
func (s *Far) Far() bool { return true }

// Watch implements Store. Nobody tells.
func (s *Far) Watch(context.Context, string, func(string)) bool { return false }

// saying is an error in words of its own.
type saying struct {
	text string
	err  error
}

func (w *saying) Error() string        { return w.text }
func (w *saying) Unwrap() error        { return w.err }
func (w *saying) Is(target error) bool { return target == fs.ErrNotExist && code(w.err) == "NoSuchKey" }

func code(err error) string {
	var r minio.ErrorResponse
	if errors.As(err, &r) {
		return r.Code
	}
	return ""
}

// said puts an error into words that name the endpoint and the way out.
func (s *Far) said(bucket string, err error) error {
	var own *saying
	if err == nil || errors.As(err, &own) {
		return err
	}
	if errors.Is(err, io.EOF) { // which would say that an object ends here
		err = fmt.Errorf("the connection was closed: %w", io.ErrUnexpectedEOF)
	}
	u, _ := Address(s.e.Address)
	who := "whoever names no key"
	if u != nil && u.User.Username() != "" {
		who = "the key " + u.User.Username()
	}
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var text string
	switch c := code(err); {
	case c == "NoSuchBucket":
		text = fmt.Sprintf("there is no bucket %s; whoever runs the object store can make it", bucket)
	case c == "NoSuchKey":
		text = "there is no such object"
	case c == "InvalidAccessKeyId":
		text = fmt.Sprintf("the object store does not know %s", who)
	case c == "SignatureDoesNotMatch":
		text = fmt.Sprintf("the object store does not let %s in with this secret", who)
	case c == "AccessDenied":
		text = fmt.Sprintf("%s may not do that in the bucket %s; whoever runs the object store can allow it", who, bucket)
	case c == "AuthorizationHeaderMalformed":
		text = "the object store is in another region: " + err.Error() + "; write (REGION '…')"
	case c == "PreconditionFailed":
		text = "the object was replaced while it was read"
	case errors.As(err, &unknown):
		text = "the certificate of the object store is signed by nobody who is trusted: keep the signer's certificate as a secret, and add its name with (CA 'name')"
	case errors.As(err, &host):
		text = "the certificate of the object store is for another name: " + host.Error()
	case errors.Is(err, syscall.ECONNREFUSED):
		text = "nobody listens there"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded):
		text = "no answer came in time"
	default:
		text = strings.TrimSuffix(err.Error(), ".")
	}
	return &saying{fmt.Sprintf("endpoint %s, object store at %s: %s", s.e.Name, s.e.Address, text), err}
}

// Retry implements Store: the object store is away, or busy.
func (s *Far) Retry(err error) bool {
	var r minio.ErrorResponse
	if errors.As(err, &r) {
		return r.StatusCode >= 500 || r.StatusCode == http.StatusTooManyRequests || r.StatusCode == http.StatusRequestTimeout || r.Code == "RequestTimeout" ||
			r.Code == "SlowDown" || r.Code == "BadDigest" || r.StatusCode == 0 // or what came was not what was sent
	}
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	if errors.As(err, &unknown) || errors.As(err, &host) {
		return false
	}
	var network net.Error
	return errors.As(err, &network) || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.Is(err, net.ErrClosed)
}

// fitting gives what says whether a key fits the key part of an address: a pattern, an object, or all in a directory.
func fitting(address, pattern string) (func(key string) bool, error) {
	switch {
	case constant(pattern) != pattern && !doublestar.ValidatePattern(pattern):
		return nil, fmt.Errorf("the pattern %s cannot be read", address)
	case constant(pattern) != pattern:
		return func(key string) bool { ok, err := doublestar.Match(pattern, key); return err == nil && ok }, nil
	case pattern == "":
		return func(key string) bool { return !strings.Contains(key, "/") }, nil
	}
	dir := strings.TrimSuffix(pattern, "/") + "/"
	return func(key string) bool {
		return key == pattern || strings.HasPrefix(key, dir) && !strings.Contains(key[len(dir):], "/")
	}, nil
}

// Fits implements Store.
func (s *Far) Fits(address, name string) bool {
	_, pattern, err := split(address)
	if err != nil {
		return false
	}
	_, key, err := split(name)
	if err != nil {
		return false
	}
	fits, err := fitting(address, pattern)
	return err == nil && fits(key)
}

// Each implements Store. It asks page by page.
func (s *Far) Each(ctx context.Context, address, after string, give func(File) bool) error {
	bucket, pattern, err := split(address)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	prefix := constant(pattern)
	fits, err := fitting(address, pattern)
	if err != nil {
		return err
	}
	start := ""
	if after != "" {
		_, start, _ = split(after)
	}
	seen := time.AfterFunc(2*mayAnswer, stop) // a page
	defer seen.Stop()
	for o := range s.c.ListObjectsIter(ctx, bucket, minio.ListObjectsOptions{Prefix: prefix, Recursive: true, StartAfter: start}) {
		seen.Reset(2 * mayAnswer)
		if o.Err != nil {
			if ctx.Err() != nil {
				o.Err = context.DeadlineExceeded
			}
			return s.said(bucket, o.Err)
		}
		if strings.HasSuffix(o.Key, "/") || !fits(o.Key) || hidden(o.Key[len(prefix):]) {
			continue
		}
		if !give(File{Name: Scheme + bucket + "/" + o.Key, Size: o.Size, Changed: o.LastModified, Tag: strings.Trim(o.ETag, `"`)}) {
			return nil
		}
	}
	return nil
}

// Stat implements Store.
func (s *Far) Stat(ctx context.Context, name string) (File, error) {
	bucket, key, err := split(name)
	if err != nil {
		return File{}, err
	}
	ctx, done := context.WithTimeout(ctx, mayAnswer)
	defer done()
	o, err := s.c.StatObject(ctx, bucket, key, minio.StatObjectOptions{})
	if err != nil {
		return File{}, s.said(bucket, err)
	}
	return File{Name: name, Size: o.Size, Changed: o.LastModified, Tag: strings.Trim(o.ETag, `"`)}, nil
}

// Open implements Store. A small object comes with it.
func (s *Far) Open(ctx context.Context, name string) (Object, error) {
	bucket, key, err := split(name)
	if err != nil {
		return nil, err
	}
	o := &object{s: s, ctx: ctx, bucket: bucket, key: key}
	b, info, err := o.get(0, chunk)
	if err != nil {
		return nil, err
	}
	o.file, o.data = File{Name: name, Size: info.Size, Changed: info.LastModified, Tag: strings.Trim(info.ETag, `"`)}, b
	return o, nil
}

// object is an object that is fetched in pieces.
type object struct {
	s           *Far
	ctx         context.Context
	bucket, key string
	file        File

	mu   sync.Mutex
	at   int64  // where the piece at hand begins
	data []byte // the piece at hand, which is never changed
}

// File implements Object.
func (o *object) File() File { return o.file }

// Close implements Object.
func (o *object) Close() error { return nil }

// get gets bytes of the object, as it was when it was opened, and how large it is.
func (o *object) get(at int64, many int) ([]byte, minio.ObjectInfo, error) {
	ctx, done := context.WithTimeout(o.ctx, 2*mayAnswer)
	defer done()
	opts := minio.GetObjectOptions{}
	if err := opts.SetRange(at, at+int64(many)-1); err != nil {
		return nil, minio.ObjectInfo{}, err
	}
	if o.file.Tag != "" {
		if err := opts.SetMatchETag(o.file.Tag); err != nil {
			return nil, minio.ObjectInfo{}, err
		}
	}
	core := minio.Core{Client: o.s.c}
	body, info, header, err := core.GetObject(ctx, o.bucket, o.key, opts)
	if code(err) == "InvalidRange" && at == 0 { // it is empty
		info, err := o.s.c.StatObject(ctx, o.bucket, o.key, minio.StatObjectOptions{})
		return nil, info, o.s.said(o.bucket, err)
	}
	if err != nil {
		return nil, info, o.s.said(o.bucket, err)
	}
	defer body.Close()
	want := info.Size
	if r := header.Get("Content-Range"); r != "" {
		if _, total, ok := strings.Cut(r, "/"); ok {
			if _, err := fmt.Sscan(total, &info.Size); err != nil {
				return nil, info, fmt.Errorf("endpoint %s: the object store answers with the range %q", o.s.e.Name, r)
			}
		}
		want = min(int64(many), info.Size-at)
	} else if at > 0 || want > int64(many) { // all of it comes
		if _, err := io.CopyN(io.Discard, body, at); err != nil {
			return nil, info, o.s.said(o.bucket, err)
		}
		want = min(int64(many), info.Size-at)
	}
	b := make([]byte, max(want, 0))
	if _, err := io.ReadFull(body, b); err != nil {
		if ctx.Err() != nil && o.ctx.Err() == nil {
			err = context.DeadlineExceeded
		}
		return nil, info, o.s.said(o.bucket, err)
	}
	return b, info, nil
}

// ReadAt implements io.ReaderAt. Whoever reads from front to back has more fetched than was asked for.
func (o *object) ReadAt(b []byte, pos int64) (n int, err error) {
	for n < len(b) {
		at := pos + int64(n)
		if at >= o.file.Size {
			return n, io.EOF
		}
		o.mu.Lock()
		from, data := o.at, o.data
		o.mu.Unlock()
		end := from + int64(len(data))
		if at >= from && at < end {
			n += copy(b[n:], data[at-from:])
			continue
		}
		many := max(len(b)-n, 64<<10)
		if at == end {
			many = chunk
		}
		got, _, err := o.get(at, many)
		if err != nil {
			return n, err
		}
		if at == end {
			o.mu.Lock()
			o.at, o.data = at, got
			o.mu.Unlock()
		}
		n += copy(b[n:], got)
	}
	return n, nil
}

// Remove implements Store.
func (s *Far) Remove(ctx context.Context, name string) error {
	bucket, key, err := split(name)
	if err != nil {
		return err
	}
	ctx, done := context.WithTimeout(ctx, mayAnswer)
	defer done()
	return s.said(bucket, s.c.RemoveObject(ctx, bucket, key, minio.RemoveObjectOptions{}))
}

// Move implements Store: the object store copies it.
func (s *Far) Move(ctx context.Context, address, name, dir string) error {
	bucket, key, err := split(name)
	if err != nil {
		return err
	}
	toBucket, toDir, err := split(dir)
	if err != nil {
		return err
	}
	_, pattern, err := split(address)
	if err != nil {
		return err
	}
	rest := strings.TrimPrefix(strings.TrimPrefix(key, constant(pattern)), "/")
	if rest == "" {
		rest = path.Base(key)
	}
	ctx, done := context.WithTimeout(ctx, 4*mayAnswer)
	defer done()
	_, err = s.c.CopyObject(ctx, minio.CopyDestOptions{Bucket: toBucket, Object: path.Join(toDir, rest)}, minio.CopySrcOptions{Bucket: bucket, Object: key})
	if err != nil {
		return s.said(bucket, err)
	}
	return s.Remove(ctx, name)
}

// Put makes an object, whole or not at all.
func (s *Far) Put(ctx context.Context, name string, in io.ReaderAt, size int64) error {
	bucket, key, err := split(name)
	if err != nil {
		return err
	}
	// Larger ones are sent in parts, each of which is sent again by itself.
	ctx, done := context.WithTimeout(ctx, time.Duration(1+size/part)*4*mayAnswer)
	defer done()
	// Two parts are under way at a time: while one is sent, the sum of the other is made.
	o := minio.PutObjectOptions{PartSize: part, NumThreads: 2, ConcurrentStreamParts: true, ContentType: "application/octet-stream", DisableContentSha256: true, SendContentMd5: !s.crc}
	switch {
	case s.crc && size > part:
		o.AutoChecksum = minio.ChecksumCRC32C
	case s.crc: // the package makes it for parts alone, and knows the header in small letters as one that it would send behind the body, which few stores take
		sum := crc32.New(crc32.MakeTable(crc32.Castagnoli))
		if _, err := io.Copy(sum, io.NewSectionReader(in, 0, size)); err != nil {
			return err
		}
		o.UserMetadata = map[string]string{http.CanonicalHeaderKey(minio.ChecksumCRC32C.Key()): base64.StdEncoding.EncodeToString(sum.Sum(nil))}
	}
	_, err = s.c.PutObject(ctx, bucket, key, io.NewSectionReader(in, 0, size), size, o)
	return s.said(bucket, err)
}

// PutNew makes a small object, unless there is one: that is fs.ErrExist. It is so, too, where the answer to a first try was lost that had made it.
func (s *Far) PutNew(ctx context.Context, name string, content []byte) error {
	bucket, key, err := split(name)
	if err != nil {
		return err
	}
	ctx, done := context.WithTimeout(ctx, 2*mayAnswer)
	defer done()
	o := minio.PutObjectOptions{ContentType: "application/json", DisableMultipart: true}
	o.SetMatchETagExcept("*")
	_, err = s.c.PutObject(ctx, bucket, key, bytes.NewReader(content), int64(len(content)), o)
	if c := code(err); c == "PreconditionFailed" {
		return fmt.Errorf("%s: %w", name, fs.ErrExist)
	}
	return s.said(bucket, err)
}

// Guards looks whether the object store keeps an object from being made twice where that is asked for: not all do.
func (s *Far) Guards(ctx context.Context, address string) error {
	name := strings.TrimSuffix(address, "/") + fmt.Sprintf("/.fiume-test-%x", time.Now().UnixNano())
	if err := s.PutNew(ctx, name, []byte("1")); err != nil {
		return err
	}
	again := s.PutNew(ctx, name, []byte("2"))
	err := s.Remove(ctx, name)
	switch {
	case errors.Is(again, fs.ErrExist):
		return err
	case again != nil:
		return again
	}
	return &saying{fmt.Sprintf("endpoint %s, object store at %s: it makes an object a second time where that is not wanted (If-None-Match), so that two writers of a table could lose each other's rows: tables of the format iceberg have a catalogue for that", s.e.Name, s.e.Address), errors.ErrUnsupported}
}

// Abort gives up the parts of objects below an address that were never made whole, of names that ours says.
func (s *Far) Abort(ctx context.Context, address string, ours func(key string) bool) error {
	bucket, prefix, err := split(address)
	if err != nil {
		return err
	}
	ctx, done := context.WithTimeout(ctx, 2*mayAnswer)
	defer done()
	for u := range s.c.ListIncompleteUploads(ctx, bucket, prefix, true) {
		if code(u.Err) == "NoSuchUpload" {
			break // there is none
		}
		if u.Err != nil {
			return s.said(bucket, u.Err)
		}
		if ours(u.Key) {
			if err := (minio.Core{Client: s.c}).AbortMultipartUpload(ctx, bucket, u.Key, u.UploadID); err != nil && code(err) != "NoSuchUpload" {
				return s.said(bucket, err)
			}
		}
	}
	return nil
}

// Buckets lists the buckets.
func (s *Far) Buckets(ctx context.Context) (out []string, err error) {
	ctx, done := context.WithTimeout(ctx, mayAnswer)
	defer done()
	list, err := s.c.ListBuckets(ctx)
	for _, b := range list {
		out = append(out, b.Name)
	}
	return out, s.said("", err)
}

// Dir lists what lies directly below an address that ends with a slash, up to so many: what is below further slashes, and objects. more says that there is more.
func (s *Far) Dir(ctx context.Context, address string, most int) (dirs []string, files []File, more bool, err error) {
	bucket, key, err := split(address)
	if err != nil {
		return nil, nil, false, err
	}
	ctx, done := context.WithTimeout(ctx, mayAnswer)
	defer done()
	for o := range s.c.ListObjects(ctx, bucket, minio.ListObjectsOptions{Prefix: key}) {
		switch {
		case o.Err != nil:
			return nil, nil, false, s.said(bucket, o.Err)
		case len(dirs)+len(files) == most:
			return dirs, files, true, nil
		case strings.HasSuffix(o.Key, "/") && o.Size == 0:
			if o.Key != key {
				dirs = append(dirs, Scheme+bucket+"/"+o.Key)
			}
		default:
			files = append(files, File{Name: Scheme + bucket + "/" + o.Key, Size: o.Size, Changed: o.LastModified, Tag: o.ETag})
		}
	}
	return dirs, files, false, nil
}

// Exists says whether the bucket of an address is there.
func (s *Far) Exists(ctx context.Context, address string) error {
	bucket, key, err := split(address)
	if err != nil {
		return err
	}
	ctx, done := context.WithTimeout(ctx, mayAnswer)
	defer done()
	for o := range s.c.ListObjectsIter(ctx, bucket, minio.ListObjectsOptions{Prefix: constant(key), MaxKeys: 1}) { // it says more than a HEAD of the bucket
		return s.said(bucket, o.Err)
	}
	return nil
}

// Probe looks whether objects can be made below an address.
func (s *Far) Probe(ctx context.Context, address string) error {
	bucket, prefix, err := split(address)
	if err != nil {
		return err
	}
	key := path.Join(prefix, fmt.Sprintf(".fiume-test-%x", time.Now().UnixNano()))
	ctx, done := context.WithTimeout(ctx, mayAnswer)
	defer done()
	_, err = s.c.PutObject(ctx, bucket, key, strings.NewReader(""), 0, minio.PutObjectOptions{})
	if err != nil {
		return s.said(bucket, err)
	}
	return s.said(bucket, s.c.RemoveObject(ctx, bucket, key, minio.RemoveObjectOptions{}))
}
