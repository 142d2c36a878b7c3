package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"fiume/internal/catalog"
	"fiume/internal/core/sql"
	"fiume/internal/service/access"
	"fiume/internal/service/base"
	"fiume/internal/service/people"
	"fiume/internal/service/secrets"

	"github.com/danielgtaylor/huma/v2"
)

// Session says who the caller is, and what he may do.
type Session struct {
	Needed bool           `json:"needed" doc:"callers must show who they are: somebody has been created"`
	Name   string         `json:"name,omitempty" doc:"of the caller; left out while he has not shown who he is"`
	Via    string         `json:"via,omitempty" doc:"how he has: session, token …"`
	Grants []access.Grant `json:"grants" doc:"his roles"`
	Roles  []access.Role  `json:"roles" doc:"the roles that he has anywhere, with those that they include"`
	Board  string         `json:"board,omitempty" doc:"the one board that he may look at, by a link"`
	Signs  []string       `json:"signs" doc:"the ways to sign in: password, and the identity provider, if there is one"`
}

// SignInRequest is a name with its password.
type SignInRequest struct {
	Name     string `json:"name" minLength:"1" maxLength:"100"`
	Password string `json:"password" minLength:"1" maxLength:"1000"`
	Keep     bool   `json:"keep,omitempty" doc:"give the session as a text, to be sent as Authorization: Bearer …, instead of a cookie"`
}

// SignedIn is what signing in gives.
type SignedIn struct {
	Session
	Token string    `json:"token,omitempty" doc:"where keep was asked for"`
	Ends  time.Time `json:"ends"`
}

type signedIn struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      SignedIn
}

// UserRequest changes a person, or makes one; what is left out stays as it is.
type UserRequest struct {
	Grants   []access.Grant `json:"grants,omitempty" doc:"all of his roles"`
	Password *string        `json:"password,omitempty" maxLength:"1000"`
	Invite   bool           `json:"invite,omitempty" doc:"make a link by which he chooses a password, once, within a day"`
	Off      *bool          `json:"off,omitempty"`
}

// UserChanged is a person, and the link, where one was asked for.
type UserChanged struct {
	people.Person
	Link string `json:"link,omitempty" doc:"told once"`
}

// TokenRequest makes a token.
type TokenRequest struct {
	Name   string         `json:"name" minLength:"1" maxLength:"60"`
	Grants []access.Grant `json:"grants"`
	Lasts  int64          `json:"lasts_seconds,omitempty" minimum:"0" doc:"0: it does not end by itself"`
}

// NewToken is a token that was made.
type NewToken struct {
	people.Token
	Text string `json:"text" doc:"what a program sends: Authorization: Bearer …; told once"`
}

// NewLink is a link that was made.
type NewLink struct {
	people.Link
	URL string `json:"url" doc:"told once"`
}

// cookie is the one that a browser keeps; "" takes it away.
func (h *handler) cookie(name, value string, ends time.Time) http.Cookie {
	c := http.Cookie{Name: name, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: h.gate.set.Encrypted}
	if value == "" {
		c.MaxAge = -1
	} else {
		c.Expires = ends
	}
	return c
}

func (h *handler) sessionOf(c *access.Caller) Session {
	s := Session{Needed: h.s.People.Needed(), Grants: []access.Grant{}, Roles: []access.Role{}, Signs: []string{"password"}}
	if p := h.gate.set.Provider; p != nil {
		s.Signs = append(s.Signs, p.Name)
	}
	if c == nil || c.Name == "" {
		return s
	}
	s.Name, s.Via, s.Board, s.Grants = c.Name, c.Via, c.Board, append(s.Grants, c.Grants...)
	for _, r := range access.Roles {
		if c.Somewhere(r) {
			s.Roles = append(s.Roles, r)
		}
	}
	return s
}

// tooMany answers somebody who has tried too often.
func tooMany(err error) error {
	var t *people.TooMany
	if !errors.As(err, &t) {
		return problem(err)
	}
	return huma.ErrorWithHeaders(&Problem{Status: http.StatusTooManyRequests, Title: "Too Many Requests", Detail: t.Error()},
		http.Header{"Retry-After": {fmt.Sprint(int(t.Wait.Seconds()) + 1)}})
}

func (h *handler) known(text, address string) Session {
	return h.sessionOf(h.s.People.Known(text, address))
}

// callers are the operations about who may do what.
func (h *handler) callers(a huma.API, op func(id, method, path, summary, tag string) huma.Operation) {
	p := h.s.People
	huma.Register(a, op("session", "GET", "/api/session", "Who the caller is, and what he may do", "callers"),
		func(ctx context.Context, _ *struct{}) (*body[Session], error) {
			return answer(h.sessionOf(access.From(ctx)), nil)
		})
	huma.Register(a, op("sign-in", "POST", "/api/session", "Sign in with a name and a password", "callers"),
		func(ctx context.Context, in *struct{ Body SignInRequest }) (*signedIn, error) {
			address := access.From(ctx).Address
			label := "console"
			if in.Body.Keep {
				label = "command line"
			}
			text, ends, err := p.SignIn(in.Body.Name, in.Body.Password, label, address)
			if err != nil {
				return nil, tooMany(err)
			}
			out := &signedIn{Body: SignedIn{Session: h.known(text, address), Ends: ends}}
			if in.Body.Keep {
				out.Body.Token = text
			} else {
				out.SetCookie = []http.Cookie{h.cookie(sessionCookie, text, ends)}
			}
			return out, nil
		})
	huma.Register(a, op("sign-out", "DELETE", "/api/session", "Sign out", "callers"),
		func(ctx context.Context, in *struct {
			Authorization string `header:"Authorization"`
			Session       string `cookie:"fiume-session"`
		}) (*struct {
			SetCookie []http.Cookie `header:"Set-Cookie"`
		}, error) {
			text, _ := shown(&http.Request{Header: http.Header{"Authorization": nonEmpty(in.Authorization), "Cookie": nonEmpty(cookieText(sessionCookie, in.Session))}})
			p.SignOut(by(ctx), text)
			return &struct {
				SetCookie []http.Cookie `header:"Set-Cookie"`
			}{[]http.Cookie{h.cookie(sessionCookie, "", time.Time{}), h.cookie(linkCookie, "", time.Time{})}}, nil
		})
	huma.Register(a, op("accept", "POST", "/api/session/invitation", "Choose a password, with the code of a link, and sign in", "callers"),
		func(ctx context.Context, in *struct {
			Body struct {
				Code     string `json:"code" minLength:"1" maxLength:"200"`
				Password string `json:"password" minLength:"1" maxLength:"1000"`
			}
		}) (*signedIn, error) {
			address := access.From(ctx).Address
			_, text, ends, err := p.Accept(in.Body.Code, in.Body.Password, address)
			if err != nil {
				return nil, tooMany(err)
			}
			return &signedIn{[]http.Cookie{h.cookie(sessionCookie, text, ends)}, SignedIn{Session: h.known(text, address), Ends: ends}}, nil
		})
	huma.Register(a, op("change-password", "PUT", "/api/session/password", "Choose another password; one's other sessions end", "callers"),
		func(ctx context.Context, in *struct {
			Authorization string `header:"Authorization"`
			Session       string `cookie:"fiume-session"`
			Body          struct {
				Old string `json:"old" maxLength:"1000"`
				New string `json:"new" maxLength:"1000"`
			}
		}) (*struct{}, error) {
			c := access.From(ctx)
			if c.Via != "session" {
				return nil, problem(base.Errorf(base.ErrDenied, "a password is changed by who has signed in with it"))
			}
			text, _ := shown(&http.Request{Header: http.Header{"Authorization": nonEmpty(in.Authorization), "Cookie": nonEmpty(cookieText(sessionCookie, in.Session))}})
			return nil, tooMany(p.ChangePassword(actor(c), c.Name, text, in.Body.Old, in.Body.New))
		})

	huma.Register(a, op("users", "GET", "/api/users", "The people who sign in", "callers"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[people.Person]], error) {
			return paged(p.List(), in.Paging, func(x people.Person) string { return x.Name })
		})
	huma.Register(a, op("put-user", "PUT", "/api/users/{name}", "Make a person, or change one. With the first, an administrator, the service begins to ask who calls", "callers"),
		func(ctx context.Context, in *struct {
			Change
			Body UserRequest
		}) (*body[UserChanged], error) {
			x, code, err := p.Put(by(ctx), in.Name, people.Change{Grants: in.Body.Grants, Password: in.Body.Password, Invite: in.Body.Invite, Off: in.Body.Off})
			out := UserChanged{Person: x}
			if code != "" {
				out.Link = h.gate.set.base(&http.Request{Host: hostOf(ctx)}) + "/welcome#" + url.PathEscape(code)
			}
			return answer(out, err)
		})
	huma.Register(a, op("drop-user", "DELETE", "/api/users/{name}", "Forget a person, with his sessions and tokens", "callers"),
		func(ctx context.Context, in *Change) (*struct{}, error) {
			return nil, problem(p.Drop(by(ctx), in.Name))
		})

	own := func(ctx context.Context) string { // whose tokens the caller sees
		if c := access.From(ctx); !c.Everywhere(access.Administer) {
			return c.Name
		}
		return ""
	}
	huma.Register(a, op("tokens", "GET", "/api/tokens", "The tokens that programs show: one's own, for administrators all", "callers"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[people.Token]], error) {
			return paged(p.Tokens(own(ctx)), in.Paging, func(x people.Token) string { return x.Name })
		})
	huma.Register(a, op("new-token", "POST", "/api/tokens", "Make a token; it is told once", "callers"),
		func(ctx context.Context, in *struct {
			Acting
			Body TokenRequest
		}) (*body[NewToken], error) {
			c := access.From(ctx)
			if c.Via != "session" && p.Needed() {
				return nil, problem(base.Errorf(base.ErrDenied, "tokens are made by people who have signed in, and not by other tokens"))
			}
			text, t, err := p.NewToken(c, by(ctx), in.Body.Name, in.Body.Grants, time.Duration(in.Body.Lasts)*time.Second)
			return answer(NewToken{t, text}, err)
		})
	huma.Register(a, op("drop-token", "DELETE", "/api/tokens/{name}", "End a token", "callers"),
		func(ctx context.Context, in *Change) (*struct{}, error) {
			return nil, problem(p.DropToken(by(ctx), own(ctx), in.Name))
		})

	huma.Register(a, op("grants", "GET", "/api/grants", "What spaces may use that stands elsewhere", "callers"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[people.Share]], error) {
			return paged(p.Shares(), in.Paging, func(x people.Share) string { return x.Kind + " " + x.Name + " " + x.Space })
		})
	type shareChange struct {
		Acting
		Body people.Share
	}
	huma.Register(a, op("grant", "POST", "/api/grants", "Have a space use something", "callers"),
		func(ctx context.Context, in *shareChange) (*struct{}, error) {
			if err := h.exists(in.Body.Kind, in.Body.Name); err != nil {
				return nil, problem(err)
			}
			return nil, problem(p.Grant(by(ctx), in.Body))
		})
	huma.Register(a, op("revoke", "POST", "/api/grants/revoke", "Have a space not use something any more; what is declared by it stays", "callers"),
		func(ctx context.Context, in *shareChange) (*struct{}, error) {
			return nil, problem(p.Revoke(by(ctx), in.Body))
		})
	huma.Register(a, op("spaces", "GET", "/api/spaces", "The spaces that the caller knows of", "callers"),
		func(ctx context.Context, in *struct{ Paging }) (*body[Page[string]], error) {
			return paged(h.spaces(ctx), in.Paging, func(x string) string { return x })
		})

	type boardLink struct {
		Change
		ID string `path:"id" maxLength:"60"`
	}
	huma.Register(a, op("board-links", "GET", "/api/boards/{name}/links", "The links by which others look at a board without a name", "boards"),
		func(ctx context.Context, in *struct {
			Named
			Paging
		}) (*body[Page[people.Link]], error) {
			return paged(p.Links(in.Name), in.Paging, func(x people.Link) string { return x.ID })
		})
	huma.Register(a, op("new-board-link", "POST", "/api/boards/{name}/links", "Make a link by which others look at a board, and at nothing else, until it ends", "boards"),
		func(ctx context.Context, in *struct {
			Change
			Body struct {
				Lasts int64 `json:"lasts_seconds" minimum:"1" doc:"how long it holds"`
			}
		}) (*body[NewLink], error) {
			if _, err := h.s.Boards.Get(in.Name); err != nil {
				return nil, problem(err)
			}
			code, l, err := p.NewLink(by(ctx), in.Name, time.Duration(min(in.Body.Lasts, 1e9))*time.Second)
			return answer(NewLink{l, h.gate.set.base(&http.Request{Host: hostOf(ctx)}) + "/link/" + url.PathEscape(code)}, err)
		})
	huma.Register(a, op("drop-board-link", "DELETE", "/api/boards/{name}/links/{id}", "End a link to a board", "boards"),
		func(ctx context.Context, in *boardLink) (*struct{}, error) {
			return nil, problem(p.DropLink(by(ctx), in.Name, in.ID))
		})

	huma.Register(a, op("prove-activity", "GET", "/api/activity/proof", "Follow the chain of the activity log: an entry that was changed or removed shows", "callers"),
		func(ctx context.Context, _ *struct{}) (*body[catalog.Proof], error) {
			return answer(h.s.ProveActivity())
		})
	export := op("export-activity", "GET", "/api/activity/export", "The activity log in its order, an entry of JSON in a line", "callers")
	export.Responses = map[string]*huma.Response{"200": {Description: "entries", Content: map[string]*huma.MediaType{"application/x-ndjson": {}}}}
	huma.Register(a, export, func(ctx context.Context, in *struct {
		After uint `query:"after" doc:"the id of the last entry of the export before"`
	}) (*huma.StreamResponse, error) {
		first, err := h.s.ActivityBehind(in.After, 1000)
		if err != nil {
			return nil, problem(err)
		}
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			hc.SetHeader("Content-Type", "application/x-ndjson")
			enc := json.NewEncoder(hc.BodyWriter())
			for all := first; len(all) > 0; {
				for i := range all {
					if enc.Encode(&all[i]) != nil {
						return // who has gone does not want it
					}
				}
				if all, err = h.s.ActivityBehind(all[len(all)-1].ID, 1000); err != nil {
					_ = enc.Encode(problem(err))
					return
				}
			}
		}}, nil
	})
}

func nonEmpty(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

func cookieText(name, value string) string {
	if value == "" {
		return ""
	}
	return name + "=" + value
}

// exists says whether there is something to grant.
func (h *handler) exists(kind, name string) (err error) {
	switch kind {
	case sql.KindTopic:
		_, err = h.s.Topics.Get(name)
	case sql.KindJob:
		_, err = h.s.Jobs.Named(name)
	case "files":
		if roots := h.s.Roots(); !slices.Contains(roots, name) {
			return base.Errorf(base.ErrNotFound, "there is no root for files %q; there are %s (fiume serve --files NAME=DIR)", name, fmt.Sprint(roots))
		}
	case "secret":
		if all, serr := h.s.Secrets.List(); serr != nil {
			return serr
		} else if !slices.ContainsFunc(all, func(s secrets.Secret) bool { return s.Name == name }) {
			return base.Errorf(base.ErrNotFound, "there is no secret '%s'", name)
		}
	default:
		if k := h.s.Definitions.KindOf(name); k != kind && slices.Contains([]string{sql.KindEndpoint, sql.KindStream, sql.KindTable, sql.KindView, sql.KindSink, sql.KindBoard}, kind) {
			return base.Errorf(base.ErrNotFound, "there is no %s %q", kind, name)
		}
	}
	return err
}

// spaces are those that people, grants and names speak of, and that the caller may know.
func (h *handler) spaces(ctx context.Context) []string {
	all := h.s.People.Spaces()
	add := func(name string) {
		if s := access.SpaceOf(name); s != "" {
			all = append(all, s)
		}
	}
	for _, d := range h.s.Definitions.List("") {
		add(d.Name)
	}
	for _, j := range h.s.Jobs.List() {
		add(j.Name)
	}
	for _, t := range h.s.Topics.List() {
		add(t.Name)
	}
	slices.Sort(all)
	all = slices.Compact(all)
	c := access.From(ctx)
	return slices.DeleteFunc(all, func(s string) bool { return !c.In(access.Look, s) })
}
