package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"fiume/internal/api"
	"fiume/internal/disk"
	"fiume/internal/service/access"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// login is what is kept of signing in to a service.
type login struct {
	Name  string    `json:"name"`
	Token string    `json:"token"`
	Ends  time.Time `json:"ends"`
	CA    string    `json:"ca,omitempty"`
}

// loginsPath is the file in the user's configuration directory that keeps logins.
func loginsPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "fiume", "logins.json"), nil
}

// logins reads what is kept, by the address of a service.
func logins() (map[string]login, error) {
	out := map[string]login{}
	path, err := loginsPath()
	if err != nil {
		return out, err
	}
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	if err := json.Unmarshal(b, &out); err != nil {
		return map[string]login{}, fmt.Errorf("%s cannot be read: %w; remove it, and sign in again", path, err)
	}
	return out, nil
}

// keepLogins writes what is kept, for the user alone.
func keepLogins(all map[string]login) error {
	path, err := loginsPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(b, '\n'))
	if err = errors.Join(err, f.Chmod(0o600), f.Close()); err != nil {
		return err
	}
	return errors.Join(os.Rename(path+".new", path), disk.OS{}.SyncDir(filepath.Dir(path)))
}

// password asks for one where there is a terminal, without showing it, and else reads a line of the input.
func (a *app) password(prompt string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, prompt+": ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	if a.lines == nil {
		a.lines = bufio.NewReader(a.in)
	}
	line, err := a.lines.ReadString('\n')
	if errors.Is(err, io.EOF) && line != "" {
		err = nil
	}
	if errors.Is(err, io.EOF) {
		return "", fail(exitUsage, "a password was expected on standard input, and there is none")
	}
	return strings.TrimRight(line, "\r\n"), err
}

func (a *app) loginCommand() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use: "login", Short: "Sign in to the service", Args: arity(0, "no arguments"),
		Long: `Signs in with a name and a password, which is asked for, or read from standard input. The session is kept in the
user's configuration directory, for this service and this user alone, and ends after a week, after a day without use, or
with fiume logout. Programs take a token instead: FIUME_TOKEN (see fiume token create).`,
		Example: "  fiume login --name ada\n  fiume login --name ada --server https://fiume.example:8443 --ca fiume.crt < password.txt",
		RunE: func(c *cobra.Command, args []string) error {
			if name == "" {
				name = os.Getenv("USER")
			}
			if name == "" {
				return fail(exitUsage, "--name says who you are")
			}
			word, err := a.password("Password of " + name)
			if err != nil {
				return err
			}
			in, err := a.plainClient().SignIn(c.Context(), name, word)
			if err != nil {
				return failed(err)
			}
			all, err := logins()
			if err != nil {
				return err
			}
			all[a.serviceAddress()] = login{Name: name, Token: in.Token, Ends: in.Ends, CA: a.caFile()}
			if err := keepLogins(all); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "signed in to %s as %s until %s: %s\n", a.serviceAddress(), name, in.Ends.Local().Format("2006-01-02 15:04"), grantsText(in.Grants))
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "who you are (default $USER)")
	return c
}

func (a *app) logoutCommand() *cobra.Command {
	return &cobra.Command{
		Use: "logout", Short: "Sign out of the service", Example: "  fiume logout", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := logins()
			if err != nil {
				return err
			}
			l, ok := all[a.serviceAddress()]
			if !ok {
				fmt.Fprintf(a.out, "nobody is signed in to %s\n", a.serviceAddress())
				return nil
			}
			err = a.plainClient().With(l.Token).SignOut(c.Context())
			delete(all, a.serviceAddress())
			if kerr := keepLogins(all); kerr != nil {
				return kerr
			}
			if err != nil {
				return fmt.Errorf("the session is forgotten here, but the service was not told, where it goes on until %s: %w", l.Ends.Local().Format("2006-01-02 15:04"), failed(err))
			}
			fmt.Fprintf(a.out, "signed out of %s\n", a.serviceAddress())
			return nil
		},
	}
}

func (a *app) whoCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "who", Short: "Show who the service takes you for, and what you may do", Example: "  fiume who", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client().Session(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(s)
			}
			switch {
			case !s.Needed:
				fmt.Fprintln(a.out, "nobody has been created: whoever uses this machine may do everything")
			case s.Name == "":
				return fail(exitNotAllowed, "nobody: sign in with fiume login, or set FIUME_TOKEN")
			default:
				fmt.Fprintf(a.out, "%s, by %s: %s\n", s.Name, s.Via, grantsText(s.Grants))
			}
			return nil
		},
	}
	a.outputFlag(c, "text", "json")
	return c
}

func grantsText(all []access.Grant) string {
	var out []string
	for _, g := range all {
		out = append(out, g.String())
	}
	if len(out) == 0 {
		return "no roles"
	}
	return strings.Join(out, ", ")
}

// grantsOf reads roles.
func grantsOf(texts []string) (out []access.Grant, err error) {
	for _, t := range texts {
		g, err := access.ParseGrant(t)
		if err != nil {
			return nil, fail(exitUsage, "--role: %s", err)
		}
		out = append(out, g)
	}
	return out, nil
}

func (a *app) passwordCommand() *cobra.Command {
	return &cobra.Command{
		Use: "password", Short: "Choose another password; your other sessions end", Example: "  fiume password", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			old, err := a.password("Password of now")
			if err != nil {
				return err
			}
			word, err := a.chosen("New password")
			if err != nil {
				return err
			}
			if err := a.client().ChangePassword(c.Context(), old, word); err != nil {
				return failed(err)
			}
			fmt.Fprintln(a.out, "the password is changed")
			return nil
		},
	}
}

// chosen asks for a new password, twice where there is a terminal.
func (a *app) chosen(prompt string) (string, error) {
	word, err := a.password(prompt)
	if err != nil {
		return "", err
	}
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		again, err := a.password("Once more")
		if err != nil {
			return "", err
		}
		if again != word {
			return "", fail(exitUsage, "the two are not the same")
		}
	}
	return word, nil
}

func (a *app) userCommand() *cobra.Command {
	user := &cobra.Command{Use: "user", Short: "Look after the people who sign in", Example: "  fiume user create ada --role administer\n  fiume user create bo --role develop:timing --role operate:timing --invite",
		Long: `Looks after the people who sign in, and what they may do.

Roles are look (states, ledgers, charts), read (rows), disclose (rows with the values of sensitive columns), write (messages
into topics), develop (declare, try, create and change jobs), operate (start and stop jobs, secrets, endpoints) and administer
(everything). A role holds everywhere, or, as develop:timing, in a space: for all that is called timing.…

The first person must be an administrator; from then on the service asks everybody who he is.`}
	var roles []string
	var invite bool
	change := func(done string, create bool) func(c *cobra.Command, args []string) error {
		return func(c *cobra.Command, args []string) error {
			in := api.UserRequest{Invite: invite}
			var err error
			if in.Grants, err = grantsOf(roles); err != nil {
				return err
			}
			if create {
				all, err := a.client().Users(c.Context())
				if err != nil {
					return failed(err)
				}
				for _, x := range all {
					if x.Name == args[0] {
						return fail(exitFailed, "there is already a user %s; fiume user change %s changes him", args[0], args[0])
					}
				}
				if !invite {
					word, err := a.chosen("Password for " + args[0])
					if err != nil {
						return err
					}
					in.Password = &word
				}
			}
			out, err := a.client().PutUser(c.Context(), args[0], in)
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(out)
			}
			fmt.Fprintf(a.out, "user %s %s: %s\n", out.Name, done, grantsText(out.Grants))
			if out.Link != "" {
				fmt.Fprintf(a.out, "a password is chosen here, once, within a day: %s\n", out.Link)
			}
			return nil
		}
	}
	create := &cobra.Command{Use: "create NAME", Short: "Create somebody, with a password that is asked for, or a link to choose one", Example: "  fiume user create ada --role administer\n  fiume user create bo --role develop:timing --invite\n  fiume user create eve --role look < password.txt", Args: arity(1, "a name"), RunE: change("created", true)}
	alter := &cobra.Command{Use: "change NAME", Short: "Give somebody other roles, or a link to choose another password", Example: "  fiume user change bo --role read:timing\n  fiume user change bo --invite", Args: arity(1, "a name"), RunE: change("changed", false)}
	for _, x := range []*cobra.Command{create, alter} {
		x.Flags().StringArrayVar(&roles, "role", nil, "a role, everywhere (read) or in a space (read:timing); may be given several times, and those that are given are all")
		x.Flags().BoolVar(&invite, "invite", false, "make a link by which he chooses a password, once, within a day")
		a.outputFlag(x, "text", "json")
	}
	list := &cobra.Command{Use: "list", Short: "List the people", Example: "  fiume user list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Users(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "nobody has been created, and whoever uses this machine may do everything; create an administrator with: fiume user create NAME --role administer")
				return nil
			}
			var rows [][]string
			for _, p := range all {
				state := "on"
				switch {
				case p.Off:
					state = "off"
				case p.Invited != nil:
					state = "invited"
				}
				seen := "never"
				if p.Seen != nil {
					seen = ago(*p.Seen)
				}
				rows = append(rows, []string{p.Name, grantsText(p.Grants), state, seen})
			}
			columns(a.out, []string{"USER", "ROLES", "STATE", "SIGNED IN"}, rows)
			return nil
		}}
	a.outputFlag(list, "text", "json")
	turn := func(use, short string, off bool) *cobra.Command {
		return &cobra.Command{Use: use + " NAME", Short: short, Example: "  fiume user " + use + " bo", Args: arity(1, "a name"),
			RunE: func(c *cobra.Command, args []string) error {
				if _, err := a.client().PutUser(c.Context(), args[0], api.UserRequest{Off: &off}); err != nil {
					return failed(err)
				}
				fmt.Fprintf(a.out, "user %s is %s\n", args[0], use)
				return nil
			}}
	}
	var yes bool
	drop := &cobra.Command{Use: "drop NAME", Short: "Forget somebody, with his sessions and tokens", Example: "  fiume user drop bo --yes", Args: arity(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			if ok, err := a.sure(fmt.Sprintf("The user %s is forgotten, and his sessions and tokens end.", args[0]), yes); err != nil || !ok {
				return err
			}
			if err := a.client().DropUser(c.Context(), args[0]); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "user %s forgotten\n", args[0])
			return nil
		}}
	drop.Flags().BoolVar(&yes, "yes", false, "do not ask")
	user.AddCommand(create, alter, list, turn("off", "Let somebody in no more, and close what he has open", true), turn("on", "Let somebody in again", false), drop)
	return user
}

func (a *app) tokenCommand() *cobra.Command {
	token := &cobra.Command{Use: "token", Short: "Look after the tokens that programs show", Example: "  fiume token create nightly --role write:timing --lasts '90 DAYS'"}
	var roles []string
	var lasts string
	create := &cobra.Command{Use: "create NAME", Short: "Make a token; it is shown once", Args: arity(1, "a name"),
		Long: `Makes a token for a program, with roles that you have yourself. It is shown once. A program sends it as
Authorization: Bearer …, fiume itself takes it from FIUME_TOKEN, clients of brokers and devices take its name as the user
and the token as the password. What you may do no more it may do no more, either.`,
		Example: "  fiume token create nightly --role write:timing --lasts '90 DAYS'\n  export FIUME_TOKEN=$(fiume token create ci --role develop:timing --output text-only)",
		RunE: func(c *cobra.Command, args []string) error {
			in := api.TokenRequest{Name: args[0]}
			var err error
			if in.Grants, err = grantsOf(roles); err != nil {
				return err
			}
			if lasts != "" {
				d, err := durationOf(lasts)
				if err != nil {
					return fail(exitUsage, "--lasts: %s", err)
				}
				in.Lasts = int64(d / time.Second)
			}
			t, err := a.client().NewToken(c.Context(), in)
			if err != nil {
				return failed(err)
			}
			switch a.output {
			case "json":
				return a.printJSON(t)
			case "text-only":
				fmt.Fprintln(a.out, t.Text)
			default:
				ends := "does not end by itself"
				if t.Ends != nil {
					ends = "ends " + t.Ends.Local().Format("2006-01-02 15:04")
				}
				fmt.Fprintf(a.out, "token %s: %s; it %s. It is shown this once:\n%s\n", t.Name, grantsText(t.Grants), ends, t.Text)
			}
			return nil
		}}
	create.Flags().StringArrayVar(&roles, "role", nil, "a role, everywhere (read) or in a space (read:timing); may be given several times")
	create.Flags().StringVar(&lasts, "lasts", "", "how long it holds, such as '90 DAYS' (default: until it is dropped)")
	a.outputFlag(create, "text", "json", "text-only")
	list := &cobra.Command{Use: "list", Short: "List your tokens; administrators see all", Example: "  fiume token list", Args: arity(0, "no arguments"),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.client().Tokens(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "no tokens; make one with: fiume token create NAME --role ROLE")
				return nil
			}
			var rows [][]string
			for _, t := range all {
				ends, used := "-", "never"
				if t.Ends != nil {
					ends = t.Ends.Local().Format("2006-01-02 15:04")
				}
				if t.Used != nil {
					used = ago(*t.Used)
				}
				rows = append(rows, []string{t.Name, t.Owner, grantsText(t.Grants), ends, used})
			}
			columns(a.out, []string{"TOKEN", "OF", "ROLES", "ENDS", "USED"}, rows)
			return nil
		}}
	a.outputFlag(list, "text", "json")
	drop := &cobra.Command{Use: "drop NAME", Short: "End a token", Example: "  fiume token drop nightly", Args: arity(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().DropToken(c.Context(), args[0]); err != nil {
				return failed(err)
			}
			fmt.Fprintf(a.out, "token %s has ended\n", args[0])
			return nil
		}}
	token.AddCommand(create, list, drop)
	return token
}
