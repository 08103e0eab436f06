package engine

import "testing"

// TestLasting finds the statements that change a session, behind comments and in any letters.
func TestLasting(t *testing.T) {
	l := Language{Lexical: Lexical{Quotes: `'"`, Dollar: true, Nested: true},
		Staying: []string{"set", "prepare", "create temp", "create temporary"},
		Passing: []string{"set local", "set transaction"}}
	for statement, want := range map[string]string{
		"set x = 1": "set", "SET\n\tx TO 1": "set", "/* a /* b */ */ -- c\n set x = 1": "set",
		"set local x = 1": "", "set  LOCAL x = 1": "", "set transaction read only": "",
		"select 1": "", "settle": "", "setting": "", "set/**/x = 1": "set", "set\"x\" = 1": "set",
		"set/* */local x = 1": "", "select set_config('x', '1', false)": "", "'set x'": "", "": "", ";": "",
		"create temp table x (y int)": "create temp", "create temporary view x as select 1": "create temporary",
		"create table temp (y int)": "", "prepare p as select 1": "prepare",
	} {
		if got := l.Lasting(statement); got != want {
			t.Errorf("%q: %q", statement, got)
		}
	}
}

// TestNamed says what servers call themselves.
func TestNamed(t *testing.T) {
	for line, want := range map[string][3]string{
		"PostgreSQL 15.18 on x86_64-pc-linux-gnu, compiled by gcc": {"PostgreSQL", "15.18", ""},
		"PostgreSQL 16.0 (practice)":                               {"PostgreSQL", "15.18", ""},
		"HutBase CCL v23.1.11 (x86_64-pc-linux-gnu)":               {"HutBase CCL", "v23.1.11", "PostgreSQL 15.18"},
		"":               {"PostgreSQL", "15.18", ""},
		"15.18":          {"PostgreSQL", "15.18", ""},
		"Hut\x1b[2J 1.0": {`Hut\x1b[2J`, "1.0", "PostgreSQL 15.18"},
	} {
		product, version, speaks := Named(line, "PostgreSQL", "15.18")
		if got := [3]string{product, version, speaks}; got != want {
			t.Errorf("%q: %q", line, got)
		}
	}
}
