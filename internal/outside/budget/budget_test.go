package budget

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/compose-spec/compose-go/v2/dotenv"
	"github.com/compose-spec/compose-go/v2/template"
	"github.com/joho/godotenv"
)

// bomb gives lines in which each variable names the one before it n times.
func bomb(lines, n int, form string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "V0=%s\n", strings.Repeat("x", 20))
	for i := 1; i <= lines; i++ {
		fmt.Fprintf(&b, form+"\n", fmt.Sprintf("V%d", i), strings.Repeat(fmt.Sprintf("${V%d}", i-1), n))
	}
	return b.String()
}

// TestVariables refuses what would grow, in each form that a library reads, and lets through what
// people write.
func TestVariables(t *testing.T) {
	outer := func(name string) (string, bool) { return strings.Repeat("y", 3000), name == "LONG" }
	for about, each := range map[string]struct {
		text string
		over bool
	}{
		"nothing":                       {"", false},
		"plain lines":                   {"A=1\nB='$x'\n# $comment\nexport C=\"x y\"\n", false},
		"a path of itself":              {"PATH=/bin\nPATH=$PATH:/a\nPATH=$PATH:/b\nPATH=${PATH}:/c\n", false},
		"a base and its uses":           {"BASE=/srv/huts\n" + strings.Repeat("A=${BASE}/data\n", 90), false},
		"a chain without growth":        {bomb(90, 1, "%s=%s"), false},
		"a bomb":                        {bomb(10, 8, "%s=%s"), true},
		"in double quotes":              {bomb(10, 8, `%s="%s"`), true},
		"over several lines":            {bomb(10, 8, "%s=\"a\n%s\n\""), true},
		"after an escaped quote":        {bomb(10, 8, `%s="\" %s"`), true},
		"after an escaped backslash":    {bomb(10, 8, `X="\\" %s="%s"`), true},
		"two on a line":                 {bomb(10, 8, `Y="a" %s="%s"`), true},
		"with a colon":                  {bomb(10, 8, "%s: %s"), true},
		"with export":                   {bomb(10, 8, "export %s = %s"), true},
		"in octal digits":               {strings.ReplaceAll(bomb(10, 8, `%s="%s"`), "$", `\0044`), true},
		"in octal digits with the name": {strings.ReplaceAll(bomb(10, 8, `%s="%s"`), "${V", `\0044{\0126`), true},
		"in a default":                  {strings.ReplaceAll(bomb(10, 8, "%s=%s"), "}", ":-x}"), true},
		"itself":                        {"A=xx\n" + strings.Repeat("A=$A$A\n", 30), true},
		"by turns":                      {"A=xx\n" + strings.Repeat("B=$A$A\nA=$B$B\n", 15), true},
		"from outside":                  {strings.Repeat("A=$LONG$LONG$LONG$LONG\n", 90), true},
		"many in one value":             {"A=x\nB=" + strings.Repeat("$A", TemplateMarks+1), true},
		"a long value with one":         {"A=x\nB=$A" + strings.Repeat("z", TemplateSize), true},
		"a long value with none":        {"A=$B\nB=" + strings.Repeat("z", 2*TemplateSize), false},
		"too large":                     {strings.Repeat("A=b\n", 300<<10), true},
		"much to count":                 {strings.Repeat("A=", 20_000) + strings.Repeat("$B", 90), true},
	} {
		began := time.Now()
		err := Variables(each.text, outer, 1<<20)
		if Exceeded(err) != each.over || err != nil && !each.over {
			t.Errorf("%s: %v", about, err)
		}
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%s took %s", about, took)
		}
	}
}

// TestTemplate bounds one text; what passes is filled in within a second.
func TestTemplate(t *testing.T) {
	nested := func(n int) string { return strings.Repeat("${A:-", n) + "x" + strings.Repeat("}", n) }
	for about, each := range map[string]struct {
		text string
		over bool
	}{
		"none": {strings.Repeat("x", 2*TemplateSize), false}, "some": {"$A ${B:-c} $$", false},
		"long": {"$A" + strings.Repeat("x", TemplateSize), true},
		"many": {strings.Repeat("$A", TemplateMarks), false}, "too many": {strings.Repeat("$A", TemplateMarks+1), true},
		"deep": {nested(TemplateDepth), false}, "too deep": {nested(TemplateDepth + 1), true},
		"one after the other": {strings.Repeat(nested(2), 20), false},
		"the worst that passes": {strings.Repeat(nested(TemplateDepth)+strings.Repeat("{}", 2000),
			TemplateMarks/TemplateDepth), false},
	} {
		err := Template(each.text)
		if Exceeded(err) != each.over {
			t.Errorf("%s: %v", about, err)
		}
		if err != nil {
			continue
		}
		began := time.Now()
		_, _ = template.SubstituteWithOptions(each.text, func(string) (string, bool) { return "", false },
			template.WithoutLogging)
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%s: it took %s to fill it in", about, took)
		}
	}
}

// TestJSON counts what a text has, wherever the reads end.
func TestJSON(t *testing.T) {
	shape := Shape{Values: 20, List: 8, Depth: 3}
	for about, each := range map[string]struct {
		text string
		over bool
	}{
		"eight":               {`[{},{},{},{},{},{},{},{}]`, false},
		"nine":                {`[{},{},{},{},{},{},{},{},{}]`, true},
		"an object's":         {`{"a":1,"b":1,"c":1,"d":1,"e":1,"f":1,"g":1,"h":1,"i":1}`, true},
		"many altogether":     {`[[1,2,3,4,5],[1,2,3,4,5],[1,2,3,4,5],[1,2,3,4,5]]`, true},
		"deep":                {`[[[]]]`, false},
		"too deep":            {`[[[[]]]]`, true},
		"in a text":           {`["[[[[[[,,,,,,,,,,,,,,,,,\"[[[[[[","\\"]`, false},
		"after an escape":     {`["\\",[[[]]]]`, true},
		"one after the other": {strings.Repeat("[]", 21), true},
		"no JSON":             {`]]]}}}"`, false},
	} {
		for size := 1; size < 40; size += 6 {
			var got strings.Builder
			_, err := io.CopyBuffer(&got, struct{ io.Reader }{JSON(strings.NewReader(each.text), shape)}, make([]byte, size))
			if Exceeded(err) != each.over || err == nil && got.String() != each.text {
				t.Errorf("%s, %d bytes at a time: %v, %q", about, size, err, got.String())
			}
		}
	}
	var list []struct{}
	if err := json.NewDecoder(JSON(strings.NewReader("["+strings.Repeat("{},", 100)+"{}]"),
		shape)).Decode(&list); !Exceeded(err) || list != nil {
		t.Errorf("the library read %d values: %v", len(list), err)
	}
}

// TestMeter ends at its first count that is over, and stays over.
func TestMeter(t *testing.T) {
	m := &Meter{Bytes: Count{Limit: 10}, Steps: Count{Limit: 2}}
	if err := m.Spend(&m.Bytes, 10, "bytes"); err != nil {
		t.Error(err)
	}
	if err := m.Spend(&m.Steps, 3, "steps"); !Exceeded(err) || m.Err() != err || m.Spend(&m.Bytes, 0, "bytes") != err {
		t.Errorf("%v, %v", err, m.Err())
	}
}

// FuzzVariables has libraries read what passed: what they make of it is never more than what was
// allowed.
func FuzzVariables(f *testing.F) {
	for _, seed := range []string{bomb(3, 8, "%s=%s"), bomb(3, 8, `%s="\" %s"`),
		"A='x\nB=\"\\0044A\\0044\\0101\"\n", "A=$$A\nK=x\nB=${k:-$K}", "A = x\rB=$A$(A)",
		"é=x\nB: \"$A\nA=$B\"C='$A'\"", "A\nexport B=\xa0\"$A"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		const limit = 2000
		outer := func(name string) (string, bool) {
			return "yyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyy", name == "A"
		}
		if Variables(text, outer, limit) != nil {
			return
		}
		for about, read := range map[string]func() (map[string]string, error){
			"one":     func() (map[string]string, error) { return dotenv.UnmarshalWithLookup(text, outer) },
			"another": func() (map[string]string, error) { return dotenv.UnmarshalWithLookup(text, nil) },
			"a third": func() (map[string]string, error) { return godotenv.Unmarshal(text) },
		} {
			pairs, err := read()
			if err != nil {
				continue
			}
			sum := 0
			for _, value := range pairs {
				sum += len(value)
			}
			if sum > limit {
				t.Errorf("%s made %d bytes of a text that may become %d", about, sum, limit)
			}
		}
	})
}

// FuzzJSON counts any text, and passes every byte of one that is within its shape.
func FuzzJSON(f *testing.F) {
	f.Add(`{"a":[1,{"b":"\"]"}]}`, 3)
	f.Fuzz(func(t *testing.T, text string, size int) {
		shape := Shape{Values: 100, List: 20, Depth: 5}
		var got strings.Builder
		_, err := io.CopyBuffer(&got, struct{ io.Reader }{JSON(strings.NewReader(text), shape)}, make([]byte, 1+size&15))
		if err == nil && got.String() != text || err != nil && !Exceeded(err) {
			t.Errorf("%v, %q", err, got.String())
		}
		var value any
		if err != nil || json.Unmarshal([]byte(text), &value) != nil {
			return
		}
		if n := count(value) - 1; n > shape.Values {
			t.Errorf("%d values passed", n)
		}
	})
}

// count gives how many values there are in one, with itself.
func count(value any) int {
	n := 1
	switch v := value.(type) {
	case []any:
		for _, each := range v {
			n += count(each)
		}
	case map[string]any:
		for _, each := range v {
			n += count(each)
		}
	}
	return n
}
