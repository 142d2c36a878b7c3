package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"

	"fiume/internal/api"
	"fiume/internal/catalog"
	"fiume/internal/service/forget"
	"fiume/internal/service/people"
)

// Session says who the caller is, and what he may do.
func (c *Client) Session(ctx context.Context) (out api.Session, err error) {
	return out, c.call(ctx, "GET", "/api/session", nil, &out)
}

// SignIn opens a session of a person, whose text With takes.
func (c *Client) SignIn(ctx context.Context, name, password string) (out api.SignedIn, err error) {
	return out, c.call(ctx, "POST", "/api/session", api.SignInRequest{Name: name, Password: password, Keep: true}, &out)
}

// SignOut ends the session that the client shows.
func (c *Client) SignOut(ctx context.Context) error {
	return c.call(ctx, "DELETE", "/api/session", nil, nil)
}

// ChangePassword has the caller choose another password.
func (c *Client) ChangePassword(ctx context.Context, old, password string) error {
	return c.call(ctx, "PUT", "/api/session/password", map[string]string{"old": old, "new": password}, nil)
}

// Users gives the people who sign in.
func (c *Client) Users(ctx context.Context) ([]people.Person, error) {
	return pages[people.Person](ctx, c, "/api/users", nil)
}

// PutUser makes a person, or changes one.
func (c *Client) PutUser(ctx context.Context, name string, in api.UserRequest) (out api.UserChanged, err error) {
	return out, c.call(ctx, "PUT", "/api/users/"+url.PathEscape(name), in, &out)
}

// DropUser forgets a person.
func (c *Client) DropUser(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/api/users/"+url.PathEscape(name), nil, nil)
}

// Tokens gives the tokens of the caller, or, for administrators, all.
func (c *Client) Tokens(ctx context.Context) ([]people.Token, error) {
	return pages[people.Token](ctx, c, "/api/tokens", nil)
}

// NewToken makes a token.
func (c *Client) NewToken(ctx context.Context, in api.TokenRequest) (out api.NewToken, err error) {
	return out, c.call(ctx, "POST", "/api/tokens", in, &out)
}

// DropToken ends a token.
func (c *Client) DropToken(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", "/api/tokens/"+url.PathEscape(name), nil, nil)
}

// Grants gives what spaces may use that stands elsewhere.
func (c *Client) Grants(ctx context.Context) ([]people.Share, error) {
	return pages[people.Share](ctx, c, "/api/grants", nil)
}

// Grant has a space use something.
func (c *Client) Grant(ctx context.Context, s people.Share) error {
	return c.call(ctx, "POST", "/api/grants", s, nil)
}

// Revoke has a space not use something any more.
func (c *Client) Revoke(ctx context.Context, s people.Share) error {
	return c.call(ctx, "POST", "/api/grants/revoke", s, nil)
}

// Spaces gives the spaces that the caller knows of.
func (c *Client) Spaces(ctx context.Context) ([]string, error) {
	return pages[string](ctx, c, "/api/spaces", nil)
}

// BoardLinks gives the links to a board.
func (c *Client) BoardLinks(ctx context.Context, board string) ([]people.Link, error) {
	return pages[people.Link](ctx, c, "/api/boards/"+url.PathEscape(board)+"/links", nil)
}

// NewBoardLink makes a link to a board that holds for so many seconds.
func (c *Client) NewBoardLink(ctx context.Context, board string, seconds int64) (out api.NewLink, err error) {
	return out, c.call(ctx, "POST", "/api/boards/"+url.PathEscape(board)+"/links", map[string]int64{"lasts_seconds": seconds}, &out)
}

// DropBoardLink ends a link to a board.
func (c *Client) DropBoardLink(ctx context.Context, board, id string) error {
	return c.call(ctx, "DELETE", "/api/boards/"+url.PathEscape(board)+"/links/"+url.PathEscape(id), nil, nil)
}

// ProveActivity follows the chain of the activity log.
func (c *Client) ProveActivity(ctx context.Context) (out catalog.Proof, err error) {
	return out, c.call(ctx, "GET", "/api/activity/proof", nil, &out)
}

// Backup writes an archive of the service as it is now. passphrase seals the key of its secrets, which is left out without one.
func (c *Client) Backup(ctx context.Context, passphrase string, to io.Writer) error {
	resp, err := c.do(ctx, "POST", "/api/backup", map[string]string{"passphrase": passphrase})
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(to, resp.Body)
	return err
}

// Forget forgets the messages and rows that have a value in a column, and tells of each place as it is done.
func (c *Client) Forget(ctx context.Context, r forget.Request, tell func(forget.Step) error) error {
	resp, err := c.do(ctx, "POST", "/api/forget", r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	for d := json.NewDecoder(resp.Body); ; {
		var s forget.Step
		switch err := d.Decode(&s); {
		case err != nil && ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return fmt.Errorf("it did not come to its end: %w", err)
		case s.Place == "" && s.Problem != "":
			return errors.New("it did not come to its end: " + s.Problem)
		}
		if err := tell(s); err != nil || s.Finished {
			return err
		}
	}
}

// ExportActivity writes the activity log in its order, behind an entry, an entry of JSON in a line.
func (c *Client) ExportActivity(ctx context.Context, after uint, to io.Writer) error {
	resp, err := c.do(ctx, "GET", fmt.Sprintf("/api/activity/export?after=%d", after), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(to, resp.Body)
	return err
}
