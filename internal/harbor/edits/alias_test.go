package edits

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/profile"
)

// TestAliases makes, changes, renames, gives out, takes in and removes aliases, and says who uses
// one.
func TestAliases(t *testing.T) {
	w, _, notes := worldtest.New(t)
	r := of(w)
	in, err := r.AliasFile(false)
	must(t, err)
	put := func(name string, replace bool, pairs ...string) error {
		layer := set(pairs...)
		if text, said := layer["addresses"]; said {
			layer["addresses"] = profile.ListValue(strings.Split(text.Text, ","), text.Origin)
		}
		return of(w).PutAlias(t.Context(), in, name, layer, replace)
	}
	for _, c := range []struct {
		name    string
		replace bool
		pairs   []string
		says    string
	}{
		{"bookings", false, []string{"engine", "postgres", "addresses",
			"db1.fellside.example,db2.fellside.example:6432"}, ""},
		{"bookings", false, []string{"engine", "postgres", "addresses", "db3.fellside.example"}, "bookings"},
		{"bookings", true, []string{"engine", "postgres", "addresses", "db3.fellside.example"}, ""},
		{"ledger", false, []string{"engine", "mariadb", "srv", "_mysql._tcp.fellside.example"}, ""},
		{"same", false, []string{"same-as", "bookings"}, ""},
		{"nowhere", false, []string{"engine", "postgres"}, "where the server is"},
	} {
		err := put(c.name, c.replace, c.pairs...)
		if (err != nil) != (c.says != "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s %v: %v", c.name, c.pairs, err)
		}
	}
	if got := of(w).OwnAliases(); !slices.Equal(got, []string{"bookings", "ledger", "same"}) {
		t.Errorf("%q", got)
	}
	worldtest.Save(t, w, "huts/live", "engine: postgres\nalias: bookings\nuser: warden_app\n")
	worldtest.Save(t, w, "huts/other", "engine: mariadb\nalias: ledger\nuser: reader\n")

	e, err := of(w).ChangeAlias(t.Context(), "bookings", set("wants", "primary"), nil)
	if err != nil || e.Name != "bookings" {
		t.Errorf("%+v %v", e, err)
	}
	if _, err := of(w).ChangeAlias(t.Context(), "bokings", set("wants", "primary"), nil); err == nil ||
		!strings.Contains(err.Error(), "bookings") {
		t.Errorf("an alias that is not there: %v", err)
	}
	users, closed, err := of(w).AliasUsers(t.Context(), e)
	var named []string
	for _, u := range users {
		named = append(named, u.Kind+" "+u.Name)
	}
	slices.Sort(named)
	if err != nil || len(closed) > 0 || !slices.Equal(named, []string{"alias same", "profile huts/live"}) {
		t.Errorf("%q %q %v", named, closed, err)
	}

	// A name that others use changes with them, or not at all.
	if _, _, err := of(w).RenameAlias(t.Context(), "bookings", "reservations", false); err == nil {
		t.Error("it is renamed, and its users are not")
	}
	if text := worldtest.Text(t, w, "huts/live"); !strings.Contains(text, "alias: bookings") {
		t.Error(text)
	}
	if _, _, err := of(w).RenameAlias(t.Context(), "bookings", "ledger", true); err == nil {
		t.Error("one alias is put over another")
	}
	if _, users, err = of(w).RenameAlias(t.Context(), "bookings", "reservations", true); err != nil || len(users) != 2 {
		t.Errorf("%+v %v", users, err)
	}
	if text := worldtest.Text(t, w, "huts/live"); !strings.Contains(text, "alias: reservations") {
		t.Error(text)
	}

	// What is given out can be taken in again.
	all, err := of(w).ExportAliases(nil)
	must(t, err)
	data, err := json.Marshal(all)
	must(t, err)
	file := filepath.Join(w.Dir, "aliases.json")
	must(t, os.WriteFile(file, data, 0o600))
	other, _, _ := worldtest.New(t)
	into, err := of(other).AliasFile(false)
	must(t, err)
	names, err := of(other).ImportAliases(t.Context(), file, into, false)
	slices.Sort(names)
	if err != nil || !slices.Equal(names, []string{"ledger", "reservations", "same"}) {
		t.Errorf("%q %v", names, err)
	}
	if _, err := of(other).ImportAliases(t.Context(), file, into, false); err == nil {
		t.Error("aliases are put over those that are there")
	}
	if again, err := of(other).ExportAliases(nil); err != nil {
		t.Error(err)
	} else if text, _ := json.Marshal(again); string(text) != string(data) {
		t.Errorf("%s instead of %s", text, data)
	}
	if _, err := of(other).ExportAliases([]string{"ledger", "nothing"}); err == nil {
		t.Error("an alias that is not there is given out")
	}

	e, _, err = of(w).Alias("ledger")
	if err == nil {
		err = of(w).RemoveAlias(t.Context(), e)
	}
	if got := of(w).OwnAliases(); err != nil || !slices.Equal(got, []string{"reservations", "same"}) {
		t.Errorf("%q %v", got, err)
	}
	for _, note := range *notes {
		if strings.Contains(note, worldtest.Canary) {
			t.Error(note)
		}
	}
}

// TestImportsThatAreNone has files that are no aliases: nothing is written.
func TestImportsThatAreNone(t *testing.T) {
	w, _, _ := worldtest.New(t)
	r := of(w)
	in, err := r.AliasFile(false)
	must(t, err)
	for name, text := range map[string]string{
		"nothing": "", "no JSON": "{", "another version": `{"aliases_version": 9, "aliases": {}}`,
		"a setting that there is not": `{"aliases_version": 1, "aliases": {"a": {"adress": "x"}}}`,
		"no address":                  `{"aliases_version": 1, "aliases": {"a": {"engine": "postgres"}}}`,
	} {
		file := filepath.Join(w.Dir, "in.json")
		must(t, os.WriteFile(file, []byte(text), 0o600))
		if names, err := r.ImportAliases(t.Context(), file, in, false); err == nil {
			t.Errorf("%s: %q", name, names)
		}
	}
	if _, err := r.ImportAliases(t.Context(), filepath.Join(w.Dir, "none.json"), in, false); err == nil {
		t.Error("a file that is not there")
	}
	if got := of(w).OwnAliases(); len(got) > 0 {
		t.Errorf("%q", got)
	}
}
