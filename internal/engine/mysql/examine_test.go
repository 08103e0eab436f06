package mysql

import "testing"

// TestFitsHost holds the hosts of accounts against those of clients.
func TestFitsHost(t *testing.T) {
	for _, c := range []struct {
		pattern, host string
		is            bool
	}{
		{"%", "10.0.0.7", true}, {"", "anything", true}, {"localhost", "localhost", true},
		{"LocalHost", "localhost", true}, {"localhost", "127.0.0.1", false}, {"10.0.%", "10.0.9.1", true},
		{"10.0.%", "10.1.0.1", false}, {"10.0.0._", "10.0.0.77", false},
		{"%.fellside.example", "db.fellside.example", true}, {"10.0.0.0/255.255.255.0", "10.0.0.200", true},
		{"10.0.0.0/255.255.255.0", "10.0.1.1", false}, {"10.0.0.0/24", "10.0.0.200", true},
		{"10.0.0.0/x", "10.0.0.1", false}, {"10.0.0.0/24", "db.fellside.example", false}, {"::1", "::1", true},
	} {
		if fitsHost(c.pattern, c.host) != c.is {
			t.Errorf("%q, %q", c.pattern, c.host)
		}
	}
	for _, c := range []struct {
		row  accountRow
		says string
	}{
		{accountRow{plugin: "mysql_native_password", hasPassword: true}, "mysql_native_password"},
		{accountRow{plugin: "unix_socket"}, "unix_socket"},
		{accountRow{plugin: "p", locked: true, expired: true, needs: "encryption", sessions: "4"},
			"p, locked, the password has expired, without a password, needs encryption, at most 4 sessions"},
		{accountRow{isRole: true}, ""},
	} {
		if got := c.row.says(); got != c.says {
			t.Errorf("%q, not %q", got, c.says)
		}
	}
}
