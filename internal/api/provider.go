package api

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"fiume/internal/service/access"
	"fiume/internal/service/people"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/gin-gonic/gin"
	"golang.org/x/oauth2"
)

// People may sign in by an identity provider (OpenID Connect, authorisation code with PKCE). Their groups there give them their roles here, anew each time they sign in.

// Provider is an identity provider.
type Provider struct {
	Name   string // as the button of the console calls it
	Issuer string // its address
	Client string // the id that it knows the service by
	Secret string // "": it asks for none
	Groups string // the claim that has the groups
	// Roles are what members of a group may do.
	Roles map[string][]access.Grant
}

const (
	// signsFor is how long somebody may take to sign in at the provider.
	signsFor = 10 * time.Minute
	// mostSigning are at the provider at a time.
	mostSigning = 2000
	// providerTakes is how long the provider may take to answer.
	providerTakes = 10 * time.Second

	signingCookie = "fiume-signing"
)

// signing is somebody who is at the provider.
type signing struct {
	verifier, nonce, to string
	until               time.Time
}

// signings are those who are at the provider, by what they come back with.
type signings struct {
	mu       sync.Mutex
	by       map[string]signing
	provider *oidc.Provider // once it has answered
}

// find asks the provider how it is spoken to, until it has answered once.
func (g *gate) find(ctx context.Context) (*oidc.Provider, error) {
	g.signings.mu.Lock()
	p := g.signings.provider
	g.signings.mu.Unlock()
	if p != nil {
		return p, nil
	}
	p, err := oidc.NewProvider(ctx, g.set.Provider.Issuer)
	if err != nil {
		return nil, fmt.Errorf("the identity provider does not answer as one: %w", err)
	}
	g.signings.mu.Lock()
	defer g.signings.mu.Unlock()
	g.signings.provider = p
	return p, nil
}

func (g *gate) oauth(c *gin.Context, p *oidc.Provider) *oauth2.Config {
	scopes := []string{oidc.ScopeOpenID, "profile", "email"}
	return &oauth2.Config{ClientID: g.set.Provider.Client, ClientSecret: g.set.Provider.Secret, Endpoint: p.Endpoint(), RedirectURL: g.set.base(c.Request) + "/signin/return", Scopes: scopes}
}

// away says to a browser why somebody cannot sign in.
func (g *gate) away(c *gin.Context, status int, err error) {
	g.s.People.Note(actor(access.From(c.Request.Context())), "was refused", "sign-in by "+g.set.Provider.Name, err.Error())
	c.Header("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
	c.String(status, "You cannot sign in by %s: %s.\nGo back to the console, and try again or sign in with a password.\n", g.set.Provider.Name, err)
}

// leave sends a browser to the provider.
func (g *gate) leave(c *gin.Context) {
	if g.set.Provider == nil {
		c.String(http.StatusNotFound, "There is no identity provider.\n")
		return
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), providerTakes)
	defer cancel()
	p, err := g.find(ctx)
	if err != nil {
		g.away(c, http.StatusBadGateway, err)
		return
	}
	state := rand.Text()
	x := signing{oauth2.GenerateVerifier(), rand.Text(), ownPath(c.Query("to")), time.Now().Add(signsFor)}
	g.signings.mu.Lock()
	if g.signings.by == nil {
		g.signings.by = map[string]signing{}
	}
	for k, s := range g.signings.by {
		if time.Now().After(s.until) {
			delete(g.signings.by, k)
		}
	}
	full := len(g.signings.by) >= mostSigning
	if !full {
		g.signings.by[state] = x
	}
	g.signings.mu.Unlock()
	if full {
		g.away(c, http.StatusServiceUnavailable, errors.New("too many others are signing in; try again in some minutes"))
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: signingCookie, Value: state, Path: "/signin/", MaxAge: int(signsFor.Seconds()), HttpOnly: true, Secure: g.set.Encrypted, SameSite: http.SameSiteLaxMode})
	c.Redirect(http.StatusSeeOther, g.oauth(c, p).AuthCodeURL(state, oidc.Nonce(x.nonce), oauth2.S256ChallengeOption(x.verifier)))
}

// ownPath is a path of the console; of anything else the first one.
func ownPath(to string) string {
	u, err := url.Parse(to)
	if err != nil || u.Scheme != "" || u.Host != "" || u.Opaque != "" || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsAny(to, "\\\r\n") {
		return "/"
	}
	return to
}

// arrive takes a browser back from the provider.
func (g *gate) arrive(c *gin.Context) {
	if g.set.Provider == nil {
		c.String(http.StatusNotFound, "There is no identity provider.\n")
		return
	}
	state := c.Query("state")
	cookie, err := c.Request.Cookie(signingCookie)
	g.signings.mu.Lock()
	x, known := g.signings.by[state]
	delete(g.signings.by, state) // it counts once
	g.signings.mu.Unlock()
	http.SetCookie(c.Writer, &http.Cookie{Name: signingCookie, Path: "/signin/", MaxAge: -1, HttpOnly: true, Secure: g.set.Encrypted, SameSite: http.SameSiteLaxMode})
	if !known || err != nil || cookie.Value != state || time.Now().After(x.until) { // somebody else may have begun it
		g.away(c, http.StatusBadRequest, errors.New("it was not begun here, or took too long"))
		return
	}
	if e := c.Query("error"); e != "" {
		g.away(c, http.StatusForbidden, fmt.Errorf("it says %q", clipPath(e)))
		return
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), providerTakes)
	defer cancel()
	who, err := g.told(ctx, c, x, c.Query("code"))
	if err != nil {
		g.away(c, http.StatusForbidden, err)
		return
	}
	address := access.From(c.Request.Context()).Address
	text, ends, err := g.s.People.SignInBy(g.set.Provider.Name, *who, "console", address)
	if err != nil {
		g.away(c, http.StatusForbidden, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Value: text, Path: "/", Expires: ends, HttpOnly: true, Secure: g.set.Encrypted, SameSite: http.SameSiteLaxMode})
	c.Redirect(http.StatusSeeOther, x.to)
}

// told gives who the provider says that somebody is.
func (g *gate) told(ctx context.Context, c *gin.Context, x signing, code string) (*people.Told, error) {
	p, err := g.find(ctx)
	if err != nil {
		return nil, err
	}
	tokens, err := g.oauth(c, p).Exchange(ctx, code, oauth2.VerifierOption(x.verifier))
	if err != nil {
		return nil, errors.New("it does not know the code that it gave")
	}
	raw, _ := tokens.Extra("id_token").(string)
	id, err := p.Verifier(&oidc.Config{ClientID: g.set.Provider.Client}).Verify(ctx, raw)
	if err != nil {
		return nil, errors.New("what it says of you is not signed as it has to be")
	}
	if id.Nonce != x.nonce {
		return nil, errors.New("what it says of you is from another time")
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return nil, errors.New("what it says of you cannot be read")
	}
	out := &people.Told{Subject: id.Issuer + " " + id.Subject}
	for _, name := range []string{"preferred_username", "email"} {
		if s, _ := claims[name].(string); s != "" && out.Name == "" {
			out.Name = s
		}
	}
	if out.Name == "" {
		return nil, errors.New("it gives neither preferred_username nor email, which you would be called by")
	}
	var groups []string
	switch all := claims[g.set.Provider.Groups].(type) {
	case []any:
		for _, x := range all {
			if s, ok := x.(string); ok {
				groups = append(groups, s)
			}
		}
	case string:
		groups = strings.Fields(all)
	}
	for group, grants := range g.set.Provider.Roles {
		if slices.Contains(groups, group) {
			out.Grants = append(out.Grants, grants...)
		}
	}
	slices.SortFunc(out.Grants, func(a, b access.Grant) int { return strings.Compare(a.String(), b.String()) })
	out.Grants = slices.Compact(out.Grants)
	if len(out.Grants) == 0 {
		return nil, errors.New("none of your groups has a role here")
	}
	return out, nil
}
