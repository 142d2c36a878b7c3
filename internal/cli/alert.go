package cli

import (
	"fmt"
	"strings"
	"time"

	"fiume/internal/core/sql"
	"fiume/internal/service/alerts"

	"github.com/spf13/cobra"
)

func (a *app) alertCommand() *cobra.Command {
	c := &cobra.Command{Use: "alert", Short: "See what gives an alarm, silence it for a while, and say who is told", Args: arity(0, "a subcommand"),
		Long: `An alert is a condition that is looked at now and then. Every service has some: a job fails, a sink is away, a disk fills …; others
are declared with CREATE ALERT. Sinks are told once when one begins and once when it ends: a web service, a mailbox, a topic.`,
		Example: "  fiume alert list\n  fiume alert silence sink-away --for '2 HOURS'\n  fiume alert tell duty_hook",
		RunE:    func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(a.alertList(), a.alertShow(), a.alertSilence(), a.alertTell())
	return c
}

// alertState says in a word how an alert is.
func alertState(x *alerts.Alert) string {
	alarms := 0
	for _, s := range x.Standing {
		if s.Begun != nil {
			alarms++
		}
	}
	switch {
	case alarms == 1:
		return "alarm"
	case alarms > 1:
		return fmt.Sprintf("%d alarms", alarms)
	case x.Problem != "":
		return "unknown"
	case len(x.Standing) > 0:
		return "soon"
	case x.Looked == nil:
		return "not looked"
	}
	return "quiet"
}

// silentUntil says until when what gives an alarm is silent.
func silentUntil(x *alerts.Alert, of string) string {
	for _, s := range x.Silences {
		if s.Of == "" || s.Of == of {
			return "until " + s.Until.Format("2006-01-02 15:04Z")
		}
	}
	return ""
}

func (a *app) alertList() *cobra.Command {
	var quiet bool
	c := &cobra.Command{Use: "list", Short: "List what gives an alarm, or all alerts", Args: arity(0, "no arguments"), Example: "  fiume alert list\n  fiume alert list --all --output json",
		RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.client().Alerts(c.Context())
			if err != nil {
				return failed(err)
			}
			shown := []alerts.Alert{}
			for _, x := range all {
				if quiet || len(x.Standing) > 0 || x.Problem != "" {
					shown = append(shown, x)
				}
			}
			if a.output == "json" {
				return a.printJSON(shown)
			}
			if len(shown) == 0 {
				fmt.Fprintf(a.out, "nothing gives an alarm; %d alerts are looked at (fiume alert list --all)\n", len(all))
				return nil
			}
			var rows [][]string
			for _, x := range shown {
				told := strings.Join(x.Notify, ", ")
				if len(x.Standing) == 0 {
					about := x.About
					if x.Problem != "" {
						about = x.Problem
					}
					rows = append(rows, []string{x.Name, alertState(&x), "", silentUntil(&x, ""), told, clipped(oneLineOf(about), 100)})
				}
				for _, s := range x.Standing {
					state := "soon"
					if s.Begun != nil {
						state = "alarm"
					}
					rows = append(rows, []string{x.Name, state, s.Since.Format("2006-01-02 15:04:05Z"), silentUntil(&x, s.Of), told, clipped(oneLineOf(s.What), 100)})
				}
			}
			columns(a.out, []string{"ALERT", "STATE", "SINCE", "SILENT", "TELLS", "WHAT"}, rows)
			return nil
		}}
	c.Flags().BoolVar(&quiet, "all", false, "also those that give no alarm")
	a.outputFlag(c, "text", "json")
	return c
}

func (a *app) alertShow() *cobra.Command {
	c := &cobra.Command{Use: "show NAME", Short: "Show an alert: what it looks at, what gives an alarm, who is told", Args: arity(1, "the name of an alert"), Example: "  fiume alert show sink-away",
		RunE: func(c *cobra.Command, args []string) error {
			x, err := a.client().Alert(c.Context(), args[0])
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(x)
			}
			a.printAlert(x)
			return nil
		}}
	a.outputFlag(c, "text", "json")
	return c
}

func (a *app) printAlert(x *alerts.Alert) {
	fmt.Fprintf(a.out, "%s  %s\n", x.Name, alertState(x))
	if x.BuiltIn {
		fmt.Fprintf(a.out, "every service has it: %s\n", x.About)
	} else {
		fmt.Fprintln(a.out, x.SQL)
	}
	fmt.Fprintf(a.out, "looked at every %s", sql.DurationText(x.Every))
	if x.For > 0 {
		fmt.Fprintf(a.out, "; an alarm when it has held for %s", sql.DurationText(x.For))
	}
	fmt.Fprintln(a.out)
	switch {
	case len(x.Notify) > 0:
		fmt.Fprintf(a.out, "tells %s\n", strings.Join(x.Notify, ", "))
	case x.BuiltIn:
		fmt.Fprintln(a.out, "tells nobody: fiume alert tell SINK")
	default:
		fmt.Fprintln(a.out, "tells nobody: add NOTIFY sink")
	}
	if x.Problem != "" {
		fmt.Fprintf(a.out, "cannot be looked at: %s\n", x.Problem)
	}
	for _, s := range x.Silences {
		of := "silent"
		if s.Of != "" {
			of = s.Of + " silent"
		}
		fmt.Fprintf(a.out, "%s until %s, by %s %s\n", of, s.Until.Format(time.RFC3339), s.By, s.Why)
	}
	for _, s := range x.Standing {
		state := "holds since " + s.Since.Format(time.RFC3339) + ", no alarm yet"
		if s.Begun != nil {
			state = "alarm since " + s.Begun.Format(time.RFC3339)
			if s.Told {
				state += ", told"
			}
		}
		fmt.Fprintf(a.out, "\n  %s\n  %s\n", state, s.What)
	}
}

func (a *app) alertSilence() *cobra.Command {
	var of, long, why string
	c := &cobra.Command{Use: "silence NAME", Short: "Keep an alert from telling anybody that it begins, for a while", Args: arity(1, "the name of an alert"),
		Long: `Keeps an alert from telling anybody that it begins, for a while: all of it, or with --of what of it gives the alarm, as fiume alert list
--output json names it. What still gives an alarm then is told. --for 0 ends a silence at once.`,
		Example: "  fiume alert silence sink-away --for '2 HOURS' --why 'the database moves'\n  fiume alert silence sink-away --for 0",
		RunE: func(c *cobra.Command, args []string) error {
			var d time.Duration
			if long != "0" {
				var err error
				if d, err = durationOf(long); err != nil {
					return fail(exitUsage, "%v", err)
				}
				if d < time.Second {
					return fail(exitUsage, "an alert is silent for a second at least")
				}
			}
			x, err := a.client().SilenceAlert(c.Context(), args[0], of, d, why)
			if err != nil {
				return failed(err)
			}
			if d == 0 {
				fmt.Fprintf(a.out, "the alert %s tells again\n", x.Name)
				return nil
			}
			fmt.Fprintf(a.out, "the alert %s is silent until %s\n", x.Name, time.Now().Add(d).UTC().Format("2006-01-02 15:04:05Z"))
			return nil
		}}
	c.Flags().StringVar(&long, "for", "1 HOUR", "how long, such as '2 HOURS'; 0 ends it")
	c.Flags().StringVar(&of, "of", "", "only what of it gives the alarm")
	c.Flags().StringVar(&why, "why", "", "why")
	return c
}

func (a *app) alertTell() *cobra.Command {
	var nobody bool
	c := &cobra.Command{Use: "tell [SINK]…", Short: "Say which sinks are told of the alerts that every service has, or show which", Args: cobra.ArbitraryArgs,
		Long: `Says which sinks are told of the alerts that every service has, instead of those told so far; without arguments it shows what they are still to
be told. What a declared alert tells stands behind its NOTIFY. The sinks get a row when an alert begins and one when it ends: id, alert, event (begins, ends),
of, what, since, at, row.`,
		Example: "  fiume alert tell duty_hook duty_mail\n  fiume alert tell --nobody\n  fiume alert tell",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 || nobody {
				if nobody && len(args) > 0 {
					return fail(exitUsage, "--nobody and sinks do not go together")
				}
				if err := a.client().TellAlerts(c.Context(), args); err != nil {
					return failed(err)
				}
				if nobody {
					fmt.Fprintln(a.out, "nobody is told of the alerts that every service has")
					return nil
				}
				fmt.Fprintf(a.out, "the alerts that every service has tell %s\n", strings.Join(args, ", "))
				return nil
			}
			waiting, err := a.client().AlertNotices(c.Context())
			if err != nil {
				return failed(err)
			}
			if a.output == "json" {
				return a.printJSON(waiting)
			}
			all, err := a.client().Alerts(c.Context())
			if err != nil {
				return failed(err)
			}
			told := "nobody: fiume alert tell SINK"
			for _, x := range all {
				if x.BuiltIn && len(x.Notify) > 0 {
					told = strings.Join(x.Notify, ", ")
				}
			}
			fmt.Fprintf(a.out, "the alerts that every service has tell %s\n", told)
			if len(waiting) == 0 {
				fmt.Fprintln(a.out, "nothing waits to be told")
				return nil
			}
			var rows [][]string
			for _, n := range waiting {
				rows = append(rows, []string{n.Sink, n.Alert, n.Event, n.At.Format("2006-01-02 15:04:05Z"), fmt.Sprint(n.Tries), clipped(oneLineOf(n.Problem), 100)})
			}
			columns(a.out, []string{"SINK", "ALERT", "EVENT", "AT", "TRIES", "PROBLEM"}, rows)
			return nil
		}}
	c.Flags().BoolVar(&nobody, "nobody", false, "tell nobody")
	a.outputFlag(c, "text", "json")
	return c
}
