package mongodb

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
)

// language is how commands are written: as Extended JSON (version 2, the open specifications of
// the server's drivers).
var language = engine.Language{
	Name: "Extended JSON", Lexical: engine.Lexical{Quotes: `"`, Backslash: true}, Single: true, Objects: sort,
	Reading: engine.Reading{Reads: reads},
}

// reads are the commands that change nothing, with any arguments, but for the stages in
// writes ("Database Commands", the server's manual).
var reads = []string{
	"find", "aggregate", "count", "distinct", "explain", "getMore",
	"listCollections", "listDatabases", "listIndexes", "listCommands", "dbStats", "collStats", "dataSize", "dbHash",
	"ping", "hello", "isMaster", "ismaster", "buildInfo", "buildinfo", "hostInfo", "serverStatus",
	"connectionStatus", "whatsmyip",
	"usersInfo", "rolesInfo", "currentOp", "top", "getLog", "getParameter", "getCmdLineOpts", "connPoolStats",
	"replSetGetStatus", "replSetGetConfig",
}

// writes are stages of an aggregation that write what comes out of it.
var writes = []string{"$out", "$merge"}

// aboutServer are commands that a server takes in the database admin alone.
var aboutServer = []string{
	"listDatabases", "renameCollection", "currentOp", "killOp", "getLog", "getParameter", "setParameter",
	"getCmdLineOpts", "top", "fsync", "shutdown",
	"replSetGetStatus", "replSetGetConfig", "replSetStepDown", "replSetInitiate", "replSetReconfig",
	"rotateCertificates", "logRotate",
}

// aboutAccounts are commands that look for an account in the database in which they run.
var aboutAccounts = []string{"createUser", "updateUser", "dropUser", "grantRolesToUser", "revokeRolesFromUser",
	"usersInfo"}

// destroys are commands that take a lot away.
var destroys = []string{"drop", "dropDatabase", "dropAllUsersFromDatabase", "dropAllRolesFromDatabase"}

// sort says what a command does.
func sort(statement string) engine.Sorted {
	s := engine.Sorted{Effect: engine.Reads}
	names, inner, err := namesIn(statement)
	name := ""
	if len(names) > 0 {
		name = names[0]
	}
	switch {
	case err != nil || !slices.Contains(reads, name):
		s = engine.Sorted{Why: name}
	case name == "explain" && !slices.Contains(reads, inner):
		s = engine.Sorted{Why: "explain of " + inner}
	default:
		if i := slices.IndexFunc(names, func(n string) bool { return slices.Contains(writes, n) }); i >= 0 {
			s = engine.Sorted{Why: names[i]}
		}
	}
	s.Destroys = destroying(name, statement)
	return s
}

// namesIn gives all names in an object, at any depth, and the first one of the object that its
// first name has.
func namesIn(text string) (names []string, inner string, err error) {
	d := json.NewDecoder(strings.NewReader(text))
	type level struct{ object, value bool }
	var open []level
	for ended := false; ; ended = len(open) == 0 {
		token, err := d.Token()
		switch {
		case errors.Is(err, io.EOF) && ended:
			return names, inner, nil
		case err == nil && ended:
			err = errors.New("there is more text after the object")
		case errors.Is(err, io.EOF):
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return names, inner, err
		}
		top := len(open) - 1
		if delim, is := token.(json.Delim); is && (delim == '}' || delim == ']') {
			open = open[:top]
			top--
		} else if top >= 0 && open[top].object && !open[top].value {
			name, _ := token.(string)
			if names = append(names, name); len(names) == 2 && len(open) == 2 {
				inner = name
			}
			open[top].value = true
			continue
		}
		if delim, is := token.(json.Delim); is && (delim == '{' || delim == '[') {
			open = append(open, level{object: delim == '{'})
			continue
		}
		if top >= 0 {
			open[top].value = false
		}
	}
}

// destroying says in which way a command can take a lot away, "" for none.
func destroying(name, statement string) string {
	if slices.Contains(destroys, name) {
		return name
	}
	var all struct {
		Deletes []struct{ Q map[string]any } `json:"deletes"`
		Updates []struct {
			Q     map[string]any
			Multi bool
		} `json:"updates"`
	}
	_ = json.Unmarshal([]byte(statement), &all)
	for _, each := range all.Deletes {
		if name == "delete" && len(each.Q) == 0 {
			return "delete of every document"
		}
	}
	for _, each := range all.Updates {
		if name == "update" && len(each.Q) == 0 && each.Multi {
			return "update of every document"
		}
	}
	return ""
}

// mostCommand is how long a command may be: as long as a document of the server's.
const mostCommand = 16 << 20

// compose reads a command, and puts the values in. A value is one value, with any content; only
// one of JSON can have names in it, and none of those writes.
func compose(of engine.Statement) (bson.D, error) {
	if len(of.Text) > mostCommand {
		return nil, engine.TooLarge(len(of.Text), mostCommand)
	}
	var command bson.D
	if err := extended(of.Text, &command); err != nil {
		return nil, notSent("%v", err)
	}
	if len(command) == 0 {
		return nil, notSent("the object is empty")
	}
	values := make([]any, len(of.Values))
	for i, v := range of.Values {
		value, err := valueOf(v)
		if err != nil {
			return nil, err
		}
		values[i] = value
	}
	filled, err := fill(command, values)
	if err != nil {
		return nil, err
	}
	whole, is := filled.(bson.D)
	if !is {
		return nil, notSent("a value is no command")
	}
	if _, err := bson.Marshal(whole); err != nil { // such as a name with a zero byte
		return nil, notSent("it cannot be written as a document of the server's")
	}
	return whole, nil
}

// notSent is the *finding.Problem of a command that is not sent.
func notSent(why string, of ...any) error {
	return &finding.Problem{Code: finding.QueryNotSent, Facts: finding.Facts{finding.FactWhat: fmt.Sprintf(why, of...)}}
}

// extended reads Extended JSON of a bounded depth. What the library says of a mistake is no
// secret: it names types and places.
func extended(text string, into any) error {
	depth, quoted, spared := 0, false, false
	for i := range len(text) {
		switch c := text[i]; {
		case spared:
			spared = false
		case quoted && c == '\\':
			spared = true
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			if depth++; depth > mostDepth {
				return fmt.Errorf("objects in objects, deeper than %d", mostDepth)
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	if err := bson.UnmarshalExtJSON([]byte(text), false, into); err != nil {
		return errors.New("a value is not written as Extended JSON has it")
	}
	return nil
}

// valueOf gives what a person gave beside a command.
func valueOf(v engine.Value) (any, error) {
	text := v.Text
	switch v.Kind {
	case engine.Null:
		return nil, nil
	case engine.Text:
		return text, nil
	case engine.Boolean:
		return text == "true", nil
	case engine.Bytes:
		return bson.Binary{Data: []byte(text)}, nil
	case engine.Integer, engine.Decimal:
		if v.Kind == engine.Decimal {
			d, err := bson.ParseDecimal128(text)
			if err == nil {
				return d, nil
			}
		} else if n, err := json.Number(text).Int64(); err == nil {
			if n == int64(int32(n)) {
				return int32(n), nil
			}
			return n, nil
		}
		return nil, notSent("the value %s has more digits than a number of a document can have", v.Name)
	case engine.Date, engine.Timestamp:
		return dateOf(v)
	case engine.JSON:
		var whole bson.D
		if err := extended(`{"v":`+text+`}`, &whole); err != nil || len(whole) != 1 {
			return nil, notSent("the value %s is not written as Extended JSON has it", v.Name)
		}
		if names, _, err := namesIn(text); err != nil ||
			slices.ContainsFunc(names, func(n string) bool { return slices.Contains(writes, n) }) {
			return nil, notSent("the value %s holds %s: write such a stage into the command, where the guard sees it",
				v.Name, strings.Join(writes, " or "))
		}
		return whole[0].Value, nil
	}
	return nil, notSent("the value %s is of the kind %s, which no value of a document has", v.Name, v.Kind)
}

// dateOf reads a day, or a time to the millisecond, as documents have it. One without a zone is
// in UTC.
func dateOf(v engine.Value) (any, error) {
	for _, clock := range []string{"", " 15:04", " 15:04:05"} {
		for _, zone := range []string{"", "Z07:00", "Z0700", "Z07"} {
			if at, err := time.Parse(time.DateOnly+clock+zone, v.Text); err == nil {
				return bson.NewDateTimeFromTime(at), nil
			}
		}
	}
	return nil, notSent("the value %s is no time as documents have it", v.Name)
}

// fill puts values where their places are.
func fill(in any, values []any) (any, error) {
	switch v := in.(type) {
	case bson.D:
		if len(v) == 1 && v[0].Key == engine.PlaceName {
			n, _ := v[0].Value.(int32)
			if n < 1 || int(n) > len(values) {
				return nil, notSent("the name %s is in an object, and is kept for the places of values", engine.PlaceName)
			}
			return values[n-1], nil
		}
		for i := range v {
			value, err := fill(v[i].Value, values)
			if err != nil {
				return nil, err
			}
			v[i].Value = value
		}
	case bson.A:
		for i := range v {
			value, err := fill(v[i], values)
			if err != nil {
				return nil, err
			}
			v[i] = value
		}
	}
	return in, nil
}

// documents takes the text of a document apart, as Extended JSON has it. A value that stands in
// an object by itself only to say its type is shown without that.
type documents struct{}

// typed are the names by which Extended JSON says the types of values that are one text.
var typed = map[string]engine.Kind{
	"$oid": engine.Text, "$date": engine.TimeWithZone, "$numberDecimal": engine.Decimal,
	"$numberInt": engine.Integer, "$numberLong": engine.Integer, "$numberDouble": engine.Float,
	"$uuid": engine.Text, "$symbol": engine.Text,
}

// Members implements engine.DocumentForm.
func (documents) Members(text string) ([]engine.Member, error) {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	var list []engine.Member
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, err
		}
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return nil, err
		}
		list = append(list, engine.Member{Name: fmt.Sprint(name), Cell: cellOf(value)})
	}
	_, err := d.Token()
	return list, err
}

// cellOf gives a value as a cell.
func cellOf(value json.RawMessage) engine.Cell {
	value = bytes.TrimSpace(value)
	switch value[0] {
	case 'n':
		return engine.Cell{Null: true, Own: engine.Null}
	case 't', 'f':
		return engine.Cell{Text: string(value), Own: engine.Boolean}
	case '"':
		text := ""
		_ = json.Unmarshal(value, &text)
		return engine.Cell{Text: text, Own: engine.Text}
	case '[':
		return engine.Cell{Text: string(value), Own: engine.JSON}
	case '{':
		var one map[string]json.RawMessage
		if len(value) < 200 && json.Unmarshal(value, &one) == nil && len(one) == 1 {
			for name, inner := range one {
				if kind, is := typed[name]; is && inner[0] == '"' {
					cell := cellOf(inner)
					cell.Own = kind
					return cell
				}
			}
		}
		return engine.Cell{Text: string(value), Own: engine.JSON}
	}
	kind := engine.Integer
	if bytes.ContainsAny(value, ".eE") {
		kind = engine.Float
	}
	return engine.Cell{Text: string(value), Own: kind}
}
