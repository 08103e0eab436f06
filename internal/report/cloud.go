package report

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"time"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/target"
)

// SignIn prints what a person has to do to sign in.
func SignIn(w io.Writer, a cloud.Account, asked *cloud.Asked) {
	fmt.Fprintf(w, "%s\n\n", PaintFor(w, Strong, "Sign in to "+a.Name+" ("+a.Origin.String()+")"))
	fmt.Fprintln(w, "  1. Open this page in a browser:")
	fmt.Fprintf(w, "\n    %s\n\n", asked.Page)
	if asked.Elsewhere != "" {
		Wrapped(w, "     ", "     ", "The page is at "+outside.Cell(asked.Elsewhere)+", which is another host than the cloud's. Open it only if you know it.")
		fmt.Fprintln(w)
	}
	if asked.Whole != "" && QR(w, asked.Whole) {
		words := "With a phone, take this picture instead: it has the address and the code."
		if a.Origin.Loopback() {
			words = "The picture has the address and the code. A phone cannot open this one: it is an address " +
				"of this machine alone."
		}
		fmt.Fprintln(w)
		Wrapped(w, "     ", "     ", words)
		fmt.Fprintln(w)
	}
	fmt.Fprint(w, "  2. Compare this code with the one in the browser:\n\n")
	Large(w, asked.Code)
	fmt.Fprint(w, "\n  3. Confirm there only if both are the same. If you did not begin this sign-in yourself, "+
		"deny it.\n\n")
	left := time.Until(asked.End).Round(time.Second)
	fmt.Fprintf(w, "The code ends at %s, in %s. Ctrl-C leaves.\n", asked.End.Local().Format("15:04:05"), left)
}

// CloudAddresses lists where a server can be reached.
func CloudAddresses(list []cloud.Address) string {
	var parts []string
	for _, a := range list {
		parts = append(parts, a.Kind+" "+target.Endpoint{Host: a.Host, Port: a.Port}.Place())
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
}

// CloudServers prints a table of servers.
func CloudServers(w io.Writer, list []cloud.Server) {
	var rows [][]string
	for _, s := range list {
		var copies []string
		for _, each := range s.Replicas {
			copies = append(copies, each.Name)
		}
		rows = append(rows, []string{s.Name, strings.TrimSpace(s.Engine + " " + s.Version), string(s.State),
			s.Region, CloudAddresses(s.Addresses), strings.Join(copies, ", ")})
	}
	for _, row := range rows {
		for i := range row {
			row[i] = outside.Cell(row[i])
		}
	}
	Table(w, []string{"server", "engine", "state", "region", "addresses", "replicas"}, rows, nil)
}

// CloudServer prints one server.
func CloudServer(w io.Writer, account cloud.Account, s cloud.Server, databases []string, let []cloud.Admission) {
	fmt.Fprintf(w, "%s\n\n", PaintFor(w, Strong, account.Name+"/"+outside.Cell(s.Name)))
	row := func(name, value string) {
		if value != "" {
			Wrapped(w, fmt.Sprintf("  %-16s ", name), strings.Repeat(" ", 19), outside.Cell(value))
		}
	}
	row("cloud", account.Origin.String())
	row("id", s.ID)
	row("engine", strings.TrimSpace(s.Engine+" "+s.Version))
	row("state", string(s.State))
	row("region", s.Region)
	row("provider name", s.ProviderName)
	row("addresses", CloudAddresses(s.Addresses))
	row("verified by", map[bool]string{true: "the cloud's own authority",
		false: "the system's authorities"}[s.Authority != ""]+map[bool]string{true: ", for the name " +
		s.CertificateName}[s.CertificateName != ""])
	for _, each := range s.Replicas {
		row("replica", strings.Join([]string{each.Name, string(each.State), cmp.Or(each.Region, s.Region),
			CloudAddresses(each.Addresses)}, ", "))
	}
	row("databases", strings.Join(databases, ", "))
	if let != nil {
		lines := make([]string, len(let))
		for i, a := range let {
			lines[i] = a.Range.String() + ", " + Until(a.Until)
		}
		row("let in", cmp.Or(strings.Join(lines, "; "), "nothing at all"))
	}
}

// Until words the end of an admission.
func Until(t *time.Time) string {
	if t == nil {
		return "without an end"
	}
	return "until " + t.Local().Format("2006-01-02 15:04")
}
