package web

import (
	"fmt"
	"net/url"
	"strings"

	"fiume/internal/connect/text"
)

// within looks at an address behind an endpoint.
func within(address string) error {
	if address != "" && address[0] != '/' && address[0] != '?' {
		return fmt.Errorf("'%s' stands behind the endpoint's address: it begins with / or ?", address)
	}
	_, err := namesIn(address)
	return err
}

// namesIn gives the names in an address, in their order.
func namesIn(address string) (names []string, err error) {
	for _, m := range text.Placeholder.FindAllStringSubmatch(address, -1) {
		names = append(names, m[1])
	}
	if rest := text.Placeholder.ReplaceAllString(address, ""); strings.ContainsAny(rest, "{}# \t\r\n") {
		return nil, fmt.Errorf("the address '%s' has braces without the name of a column in them, a #, or a blank; write %%7B, %%7D, %%23, %%20", address)
	}
	return names, nil
}

// filled puts values into an address.
func filled(address string, value func(name string) string) string {
	return text.Placeholder.ReplaceAllStringFunc(address, func(m string) string {
		return strings.ReplaceAll(url.QueryEscape(value(m[1:len(m)-1])), "+", "%20")
	})
}
