package cli

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"
)

// sure asks whether to do what cannot be undone. It asks at a terminal alone, and not where --yes was given.
func (a *app) sure(what string, yes bool) (bool, error) {
	f, ok := a.in.(*os.File)
	if yes || !ok || !isTerminal(f) || !isTerminal(a.out) {
		return true, nil
	}
	fmt.Fprintf(a.out, "%s Type yes to go on: ", what)
	answer, err := bufio.NewReader(a.in).ReadString('\n')
	if err != nil {
		return false, err
	}
	if strings.ToLower(strings.TrimSpace(answer)) == "yes" {
		return true, nil
	}
	fmt.Fprintln(a.out, "left as it is")
	return false, nil
}

// length is a flag that takes a length of time: 90m, 168h, 7d, 2w, or as in SQL 7 DAYS.
type length time.Duration

// String implements pflag.Value.
func (l *length) String() string {
	if *l == 0 {
		return ""
	}
	return time.Duration(*l).String()
}

// Type implements pflag.Value.
func (l *length) Type() string { return "length of time" }

// Set implements pflag.Value.
func (l *length) Set(text string) error {
	text = strings.ToLower(strings.TrimSpace(text))
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		*l = length(d)
		return nil
	}
	number := strings.TrimRight(text, "abcdefghijklmnopqrstuvwxyz ")
	n, err := strconv.ParseFloat(number, 64)
	unit := strings.TrimSuffix(strings.TrimSpace(strings.TrimPrefix(text, number)), "s")
	for names, d := range map[string]time.Duration{"w week": 7 * 24 * time.Hour, "d day": 24 * time.Hour, "hour": time.Hour, "minute": time.Minute, "second": time.Second} {
		for _, name := range strings.Fields(names) {
			if err == nil && n >= 0 && unit == name && n*float64(d) < 1<<62 {
				*l = length(n * float64(d))
				return nil
			}
		}
	}
	return fmt.Errorf("write a length of time such as 90m, 168h, 7d or '7 DAYS'")
}
