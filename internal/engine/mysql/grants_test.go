package mysql

import (
	"fmt"
	"testing"
)

// TestParseGrants reads lines as MariaDB and MySQL write them.
func TestParseGrants(t *testing.T) {
	for _, c := range []struct {
		line, want string
	}{
		{"GRANT USAGE ON *.* TO `reader`@`%` IDENTIFIED BY PASSWORD '*6891F9D51EB5A38D1BB310DDBC6379A189A4F575'",
			"[{reader@% [{usage []}] everything   false false false}]"},
		{"GRANT SELECT, INSERT (`a`, `b`), CREATE TEMPORARY TABLES ON `fell side`.* TO 'reader'@'localhost' " +
			"REQUIRE SSL WITH GRANT OPTION",
			"[{reader@localhost [{select []} {insert [a b]} {create temporary tables []}] database fell side  " +
				"true false false}]"},
		{"GRANT ALL PRIVILEGES ON `a``b`.`c.d` TO `x`@`%`", "[{x@% [{all privileges []}] table a`b c.d false false false}]"},
		{"GRANT SELECT ON `test\\_%`.* TO PUBLIC", "[{PUBLIC [{select []}] database test\\_%  false false false}]"},
		{"GRANT EXECUTE ON FUNCTION `a`.`f` TO `x`@`%`", "[{x@% [{execute []}] routine a f false false false}]"},
		{"GRANT EXECUTE ON PACKAGE BODY `a`.`f` TO `x`@`%`", "[{x@% [{execute []}] routine a f false false false}]"},
		{"GRANT `viewing`, `late`@`%` TO `x`@`%` WITH ADMIN OPTION",
			"[{x@% [] role  viewing true false false} {x@% [] role  late@% true false false}]"},
		{"GRANT PROXY ON ''@'%' TO 'root'@'localhost' WITH GRANT OPTION",
			"[{root@localhost [{proxy []}] user  @% true false false}]"},
		{"REVOKE INSERT ON `mysql`.* FROM `x`@`%`", "[{x@% [{insert []}] database mysql  false true false}]"},
		{"SET DEFAULT ROLE `viewing` FOR `x`@`localhost`", "[{ [] role  viewing false false true}]"},
		{`GRANT SELECT ON "a"."b" TO "x"@"%"`, "[{x@% [{select []}] table a b false false false}]"},
		{"GRANT SELECT ON `on`.`to` TO `grant`@`to`", "[{grant@to [{select []}] table on to false false false}]"},
	} {
		got, ok := parseGrants(c.line)
		if !ok || fmt.Sprint(got) != c.want {
			t.Errorf("%s:\n%v %v, and not\n%s", c.line, got, ok, c.want)
		}
	}
	for _, line := range []string{"", "GRANT", "GRANT SELECT", "GRANT SELECT ON TO x",
		"GRANT SELECT (a ON b.c TO x", "GRANT SELECT ON a TO x", "GRANT , ON a.b TO x",
		"GRANT SELECT INSERT) ON a.b TO x", "DROP TABLE x", "GRANT SELECT ON a.b TO"} {
		if got, ok := parseGrants(line); ok {
			t.Errorf("%q: %v", line, got)
		}
	}
}

// FuzzParseGrants reads any line to its end.
func FuzzParseGrants(f *testing.F) {
	for _, line := range []string{"GRANT SELECT, INSERT (`a`, `b`) ON `x`.* TO 'reader'@'localhost' WITH GRANT OPTION",
		"GRANT `a`@`%` TO `b`", "SET DEFAULT ROLE a FOR b", "REVOKE ALL ON *.* FROM ``@``",
		"GRANT PROXY ON ''@'' TO ''", "GRANT SELECT ON FUNCTION a.b TO c@", "GRANT a@ TO b"} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		grants, ok := parseGrants(line)
		if ok && len(grants) == 0 {
			t.Errorf("%q is understood, and says nothing", line)
		}
		for _, g := range grants {
			if ok && g.level == "" {
				t.Errorf("%q is about nothing: %+v", line, g)
			}
		}
	})
}

func TestLike(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		is            bool
	}{
		{"huts", "huts", true}, {"huts", "hutsx", false}, {"%", "", true}, {"h%s", "huts", true},
		{"h%s", "hutsy", false}, {"h__s", "huts", true}, {`test\_%`, "test_a", true},
		{`test\_%`, "testxa", false}, {"%a%b%", "xxaxxbxx", true}, {"%a%b%", "xxbxxaxx", false},
		{`\%`, "%", true}, {`\%`, "x", false}, {"é_", "éb", true}, {`a\`, "a", false},
	} {
		if like(c.pattern, c.name) != c.is {
			t.Errorf("%q, %q", c.pattern, c.name)
		}
	}
}
