package client_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"fiume/internal/api"
	"fiume/internal/service"
	"fiume/internal/service/access"
	"fiume/internal/service/people"
	"fiume/internal/service/servicetest"

	"github.com/go-jose/go-jose/v4"
)

// provider is a stand-in of an identity provider: it signs in whoever comes, as it is told to.
type provider struct {
	*httptest.Server
	key *ecdsa.PrivateKey

	mu     sync.Mutex
	claims map[string]any         // of who signs in next
	wrong  func(c map[string]any) // changes what is said of him
	signer *ecdsa.PrivateKey      // signs in place of the right key
	none   bool                   // nothing is signed
	codes  map[string]url.Values
}

func startProvider(t *testing.T) *provider {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	p := &provider{key: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	answer := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorise", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"ES256"}, "response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &key.PublicKey, KeyID: "k", Algorithm: "ES256", Use: "sig"}}})
	})
	mux.HandleFunc("/authorise", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		p.mu.Lock()
		code := fmt.Sprint("code", len(p.codes))
		p.codes[code] = q
		p.mu.Unlock()
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"state": {q.Get("state")}, "code": {code}}.Encode(), http.StatusFound)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		q, ok := p.codes[r.FormValue("code")]
		delete(p.codes, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") != base64.RawURLEncoding.EncodeToString(sum[:]) {
			w.WriteHeader(http.StatusBadRequest)
			answer(w, map[string]string{"error": "invalid_grant"})
			return
		}
		c := map[string]any{"iss": p.URL, "aud": "fiume", "exp": time.Now().Add(time.Hour).Unix(), "iat": time.Now().Unix(), "nonce": q.Get("nonce")}
		for k, v := range p.claims {
			c[k] = v
		}
		if p.wrong != nil {
			p.wrong(c)
		}
		b, _ := json.Marshal(c)
		signer := p.key
		if p.signer != nil {
			signer = p.signer
		}
		s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: signer, KeyID: "k"}}, nil)
		if err != nil {
			panic(err)
		}
		signed, err := s.Sign(b)
		if err != nil {
			panic(err)
		}
		id, _ := signed.CompactSerialize()
		if p.none {
			id = base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + base64.RawURLEncoding.EncodeToString(b) + "."
		}
		answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": id})
	})
	return p
}

// is says who signs in next.
func (p *provider) is(sub, name string, groups ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims = map[string]any{"sub": sub, "preferred_username": name, "groups": groups}
}

// TestProvider: people sign in by an identity provider, with the roles of their groups, and nobody by what it has not signed for this service, this time.
func TestProvider(t *testing.T) {
	idp := startProvider(t)
	parts := servicetest.New(t)
	s := &service.Service{Topics: parts.Topics, Jobs: parts.Jobs, Samples: parts.Samples, Definitions: parts.Definitions, Questions: parts.Questions, Secrets: parts.Secrets, People: parts.People, Boards: parts.Boards}
	set := api.Settings{Provider: &api.Provider{Name: "the club", Issuer: idp.URL, Client: "fiume", Groups: "groups",
		Roles: map[string][]access.Grant{"timers": {{Role: "develop", Space: "timing"}}, "watchers": {{Role: "look"}}}}}
	server := httptest.NewServer(api.New(t.Context(), s, fstest.MapFS{"index.html": {Data: []byte("console")}}, slog.New(slog.DiscardHandler), set))
	t.Cleanup(server.Close)
	word := "the password of ada"
	if _, _, err := parts.People.Put("test", "ada", people.Change{Grants: []access.Grant{{Role: "administer"}}, Password: &word}); err != nil {
		t.Fatal(err)
	}
	// come has a browser sign in, and gives what it sees, where it comes to and who it is then.
	come := func(b *http.Client, to string) (status int, text, at string, is api.Session) {
		t.Helper()
		resp, err := b.Get(server.URL + "/signin/provider?" + url.Values{"to": {to}}.Encode())
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, _ := io.ReadAll(resp.Body)
		who, err := b.Get(server.URL + "/api/session")
		if err != nil {
			t.Fatal(err)
		}
		defer who.Body.Close()
		_ = json.NewDecoder(who.Body).Decode(&is)
		return resp.StatusCode, string(body), resp.Request.URL.String(), is
	}
	browser := func() *http.Client {
		jar, _ := cookiejar.New(nil)
		return &http.Client{Jar: jar}
	}
	idp.is("1", "bo", "timers", "runners")
	b := browser()
	status, text, at, is := come(b, "/boards?x=1")
	if status != 200 || text != "console" || at != server.URL+"/boards?x=1" || is.Name != "bo" || fmt.Sprint(is.Grants) != "[develop:timing]" || is.Signs[1] != "the club" {
		t.Fatalf("%d %s %s %+v", status, text, at, is)
	}
	// His groups are others the next time.
	idp.is("1", "bo", "watchers", "timers")
	if _, _, _, is = come(b, "/"); fmt.Sprint(is.Grants) != "[develop:timing look]" {
		t.Errorf("%+v", is)
	}
	// Nobody leads a browser elsewhere.
	for _, to := range []string{"https://evil.example/", "//evil.example/", "/\\evil.example", "javascript:alert(1)", "evil", "/\r\nSet-Cookie: x=y"} {
		if _, _, at, _ = come(browser(), to); at != server.URL+"/" {
			t.Errorf("%q leads to %s", to, at)
		}
	}
	refused := func(what, part string) {
		t.Helper()
		status, text, _, is := come(browser(), "/")
		if status < 400 || is.Name != "" || !strings.Contains(text, part) {
			t.Errorf("%s: %d %s, %+v", what, status, text, is)
		}
	}
	idp.is("1", "bo", "runners")
	refused("no group", "none of your groups has a role here")
	idp.is("2", "bo", "timers")
	refused("another bo", "somebody else is called bo")
	idp.is("3", "ada", "timers")
	refused("the administrator's name", "somebody else is called ada")
	idp.is("4", "", "timers")
	refused("no name", "neither preferred_username nor email")
	idp.is("4", "job x", "timers")
	refused("a name that is none", "and begins with a letter")
	idp.is("5", "eve", "timers")
	for what, wrong := range map[string]func(map[string]any){
		"another service":  func(c map[string]any) { c["aud"] = "other" },
		"another provider": func(c map[string]any) { c["iss"] = "https://other.example" },
		"too old":          func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"another time":     func(c map[string]any) { c["nonce"] = "x" },
		"no nonce":         func(c map[string]any) { delete(c, "nonce") },
	} {
		idp.wrong = wrong
		refused(what, "what it says of you")
	}
	idp.wrong = nil
	other, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	idp.signer = other
	refused("another key", "is not signed as it has to be")
	idp.signer, idp.none = nil, true
	refused("no signature", "is not signed as it has to be")
	idp.none = false

	// What comes back must have been begun by the same browser, and counts once.
	b = browser()
	b.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if strings.Contains(r.URL.Path, "/signin/return") {
			return http.ErrUseLastResponse
		}
		return nil
	}
	resp, err := b.Get(server.URL + "/signin/provider")
	if err != nil {
		t.Fatal(err)
	}
	back := resp.Header.Get("Location")
	if resp, err = browser().Get(back); err != nil || resp.StatusCode != http.StatusBadRequest { // somebody is given the link of another
		t.Errorf("%v %v", resp.StatusCode, err)
	}
	if resp, err = b.Get(back); err != nil || resp.StatusCode != http.StatusBadRequest {
		t.Errorf("a state counts twice: %v %v", resp.StatusCode, err)
	}
	for _, query := range []string{"", "?state=x&code=y", "?error=access_denied"} {
		if resp, err = browser().Get(server.URL + "/signin/return" + query); err != nil || resp.StatusCode != http.StatusBadRequest {
			t.Errorf("%s: %v %v", query, resp.StatusCode, err)
		}
	}
	off := true
	if _, _, err := parts.People.Put("test", "bo", people.Change{Off: &off}); err != nil {
		t.Fatal(err)
	}
	idp.is("1", "bo", "timers")
	refused("who is kept out", "is kept out")
	// One that does not answer keeps nobody from signing in with a password.
	set.Provider.Issuer = "http://127.0.0.1:1"
	server.Config.Handler = api.New(t.Context(), s, fstest.MapFS{"index.html": {Data: []byte("console")}}, slog.New(slog.DiscardHandler), set)
	refused("away", "the identity provider does not answer as one")
}
