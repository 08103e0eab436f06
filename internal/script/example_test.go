package script_test

import (
	"fmt"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/script"
)

// A text is taken apart where the engine would: a semicolon in a quote, in a comment or in a body
// of a routine ends nothing.
func ExampleSplit() {
	info, _ := known.Info("postgres")
	for _, s := range script.Split(info.Language, "select ';' as mark; -- a; b\nselect $$;$$;\n\n  select 3") {
		fmt.Printf("line %d: %s\n", s.Line, s.Text)
	}
	// Output:
	// line 1: select ';' as mark
	// line 2: -- a; b
	// select $$;$$
	// line 4: select 3
}

// A value gets a place in the statement, and goes to the server beside it: it never becomes a part
// of the text.
func ExampleBind() {
	info, _ := known.Info("postgres")
	least, err := script.Let("least:integer=900")
	if err != nil {
		fmt.Println(err)
		return
	}
	s := script.Split(info.Language, "select name from hut where height > {{least}}")[0]
	bound, err := script.Bind(info.Language, s,
		script.Values{Given: map[string]engine.Value{"least": least}, Used: map[string]bool{}})
	fmt.Println(bound.To, err)
	fmt.Println(bound.Values)
	_, err = script.Bind(info.Language, script.Split(info.Language, "select '{{least}}'")[0],
		script.Values{Given: map[string]engine.Value{"least": least}, Used: map[string]bool{}})
	fmt.Println(err)
	// Output:
	// select name from hut where height > $1 <nil>
	// [{least integer 900}]
	// {{least}} is in quotes, where it is a text like any other: write it without the quotes
}
