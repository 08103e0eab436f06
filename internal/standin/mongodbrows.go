package standin

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// mongodbList is a list of documents of which only a part was given.
type mongodbList struct {
	of   string
	rest bson.A
	size int
}

// usualBatch is how many documents come at first.
const usualBatch = 101

// give gives the first part of a list, and keeps the rest.
func (c *mongodbConn) give(of string, all bson.A, size int) bson.D {
	l := &mongodbList{of: of, rest: all, size: size}
	id := int64(c.number)<<16 + int64(c.asked)
	first := l.next()
	if len(l.rest) == 0 {
		id = 0
	} else {
		if c.lists == nil {
			c.lists = map[int64]*mongodbList{}
		}
		c.lists[id] = l
		c.server.list(1)
	}
	return bson.D{{Key: "cursor", Value: bson.D{{Key: "id", Value: id}, {Key: "ns", Value: of},
		{Key: "firstBatch", Value: first}}}}
}

func (l *mongodbList) next() bson.A {
	part := l.rest[:min(len(l.rest), l.size)]
	l.rest = l.rest[len(part):]
	return part
}

// more gives the next part of a list.
func (c *mongodbConn) more(doc bson.Raw) bson.D {
	id, _ := doc.Lookup("getMore").Int64OK()
	l := c.lists[id]
	if l == nil {
		return c.refuse(43, "CursorNotFound", "this practice server knows no such list")
	}
	part := l.next()
	if len(l.rest) == 0 {
		delete(c.lists, id)
		c.server.list(-1)
		id = 0
	}
	return bson.D{{Key: "cursor", Value: bson.D{{Key: "id", Value: id}, {Key: "ns", Value: l.of},
		{Key: "nextBatch", Value: part}}}}
}

// end forgets lists with which nobody goes on.
func (c *mongodbConn) end(doc bson.Raw) bson.D {
	ended := bson.A{}
	if ids, ok := doc.Lookup("cursors").ArrayOK(); ok {
		values, _ := ids.Values()
		for _, v := range values {
			if id, ok := v.Int64OK(); ok && c.lists[id] != nil {
				delete(c.lists, id)
				c.server.list(-1)
				ended = append(ended, id)
			}
		}
	}
	return bson.D{{Key: "cursorsKilled", Value: ended}}
}

// documents answers commands about documents, which are the rows of the tables; nil for a command
// that is not known.
func (c *mongodbConn) documents(name string, doc bson.Raw) bson.D {
	var command struct {
		Query, Filter, Sort bson.D
		Projection          bson.D
		Key                 string
		Limit               int
		BatchSize           int `bson:"batchSize"`
		Pipeline            []bson.D
		Cursor              struct {
			BatchSize int `bson:"batchSize"`
		}
		Documents []bson.D
		Deletes   []struct {
			Q     bson.D
			Limit int
		}
		Updates []struct {
			Q, U  bson.D
			Multi bool
		}
	}
	table, _ := doc.Lookup(name).StringValueOK()
	in, _ := doc.Lookup("$db").StringValueOK()
	if err := bson.Unmarshal(doc, &command); err != nil && !slices.Contains([]string{"getMore", "killCursors"}, name) {
		return c.refuse(14, "TypeMismatch", "this practice server does not understand the command")
	}
	if slices.Contains([]string{"insert", "update", "delete", "drop"}, name) && c.server.config.Replica {
		return c.refuse(10107, "NotWritablePrimary", "this practice server is a replica, and takes no changes")
	}
	size := func(n int) int {
		if n > 0 {
			return n
		}
		return usualBatch
	}
	t := &mongodbTable{in: c.server.data.db, name: table}
	if in != "" && !c.server.has(in) {
		t.name = ""
	}
	changed, err := int64(0), error(nil)
	switch name {
	case "getMore":
		return c.more(doc)
	case "killCursors":
		return c.end(doc)
	case "find":
		var list bson.A
		if list, err = t.find(command.Filter, command.Sort, command.Limit, command.Projection); err == nil {
			return c.give(in+"."+table, list, size(command.BatchSize))
		}
	case "aggregate":
		var list bson.A
		if list, err = t.aggregate(command.Pipeline); err == nil {
			return c.give(in+"."+table, list, size(command.Cursor.BatchSize))
		}
	case "count":
		var list bson.A
		if list, err = t.find(command.Query, nil, 0, nil); err == nil {
			return bson.D{{Key: "n", Value: len(list)}}
		}
	case "distinct":
		var list bson.A
		if list, err = t.find(command.Query, nil, 0, bson.D{{Key: command.Key, Value: 1}}); err == nil {
			values := bson.A{}
			for _, d := range list {
				for _, e := range d.(bson.D) {
					if e.Key == command.Key && !slices.Contains(values, e.Value) {
						values = append(values, e.Value)
					}
				}
			}
			return bson.D{{Key: "values", Value: values}}
		}
	case "insert":
		for i, d := range command.Documents {
			if err := t.insert(d); err != nil {
				return bson.D{{Key: "n", Value: i},
					{Key: "writeErrors",
						Value: bson.A{append(bson.D{{Key: "index", Value: i}}, c.complain(err)[1:]...)}}}
			}
		}
		return bson.D{{Key: "n", Value: len(command.Documents)}}
	case "delete":
		for _, each := range command.Deletes {
			var n int64
			if n, err = t.change("delete from %s", nil, each.Q, each.Limit == 1); err != nil {
				break
			}
			changed += n
		}
		if err == nil {
			return bson.D{{Key: "n", Value: changed}}
		}
	case "update":
		for _, each := range command.Updates {
			var n int64
			if n, err = t.update(each.Q, each.U, each.Multi); err != nil {
				break
			}
			changed += n
		}
		if err == nil {
			return bson.D{{Key: "n", Value: changed}, {Key: "nModified", Value: changed}}
		}
	case "drop":
		if _, err = t.in.Exec("drop table " + t.quoted(t.name)); err == nil {
			return bson.D{{Key: "ns", Value: in + "." + table}}
		}
	default:
		return nil
	}
	return c.complain(err)
}

// errMongoDB is what this practice server does not understand.
var errMongoDB = errors.New("this practice server does not understand that")

// complain refuses with the number for an error of the store.
func (c *mongodbConn) complain(err error) bson.D {
	_, number, text := problem(err)
	code, name := 2, "BadValue"
	switch {
	case errors.Is(err, errMongoDB):
		code, name, text = 9, "FailedToParse", err.Error()
	case number == 1062:
		code, name, text = 11000, "DuplicateKey", "E11000 "+text
	case number == 1366, number == 1048, number == 1054, number == 1452:
		code, name = 121, "DocumentValidationFailure"
	case number == 1146:
		code, name = 26, "NamespaceNotFound"
	}
	return c.refuse(code, name, text)
}

// mongodbTable is a table whose rows are documents: a value that is null is not in one.
type mongodbTable struct {
	in   *sql.DB
	name string
}

func (t *mongodbTable) quoted(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// columns gives the table's columns, and which of them is the document's own name.
func (t *mongodbTable) columns() (list []string, own string) {
	rows, err := t.in.Query("select name, pk from pragma_table_info(?)", t.name)
	if err != nil {
		return nil, "rowid"
	}
	defer rows.Close()
	own = "rowid"
	for rows.Next() {
		var name string
		var key int
		if rows.Scan(&name, &key) == nil {
			if key > 0 {
				own = name
			}
			list = append(list, name)
		}
	}
	return list, own
}

func (t *mongodbTable) column(key, own string) string {
	if key == "_id" {
		key = own
	}
	return t.quoted(key)
}

// comparisons are the words of a filter for SQL's signs.
var comparisons = map[string]string{"$eq": "is", "$ne": "is not", "$gt": ">", "$gte": ">=", "$lt": "<", "$lte": "<="}

// where gives a filter as SQL has it.
func (t *mongodbTable) where(filter bson.D) (text string, values []any, err error) {
	columns, own := t.columns()
	parts := []string{"1"}
	for _, e := range filter {
		column := t.column(e.Key, own)
		if e.Key != "_id" && !slices.Contains(columns, e.Key) { // no document has the name
			parts = append(parts, "0")
			continue
		}
		of, is := e.Value.(bson.D)
		if !is {
			of = bson.D{{Key: "$eq", Value: e.Value}}
		}
		for _, how := range of {
			if list, is := how.Value.(bson.A); is && how.Key == "$in" {
				parts = append(parts, column+" in ("+strings.TrimSuffix(strings.Repeat("?,", len(list)), ",")+")")
				values = append(values, list...)
				continue
			}
			sign, known := comparisons[how.Key]
			if !known {
				return "", nil, fmt.Errorf("%w: %s", errMongoDB, how.Key)
			}
			parts, values = append(parts, column+" "+sign+" ?"), append(values, how.Value)
		}
	}
	return " where " + strings.Join(parts, " and "), values, nil
}

// find gives documents. Those of a table that is not there are none.
func (t *mongodbTable) find(filter, order bson.D, limit int, only bson.D) (bson.A, error) {
	columns, own := t.columns()
	if len(columns) == 0 {
		return bson.A{}, nil
	}
	text, values, err := t.where(filter)
	if err != nil {
		return nil, err
	}
	for i, e := range order {
		text += map[bool]string{true: " order by ", false: ", "}[i == 0] + t.column(e.Key, own)
		if n, _ := e.Value.(int32); n < 0 {
			text += " desc"
		}
	}
	if limit != 0 {
		text += fmt.Sprintf(" limit %d", max(limit, -limit))
	}
	names := []string{"_id"}
	from := []string{t.quoted(own)}
	for _, name := range columns {
		if name != own && (len(only) == 0 || slices.ContainsFunc(only, func(e bson.E) bool { return e.Key == name })) {
			names, from = append(names, name), append(from, t.quoted(name))
		}
	}
	rows, err := t.in.QueryContext(context.Background(),
		"select "+strings.Join(from, ", ")+" from "+t.quoted(t.name)+text, values...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := bson.A{}
	for rows.Next() {
		row, into := make([]any, len(names)), make([]any, len(names))
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		var d bson.D
		for i, value := range row {
			if n, is := value.(int64); is && n == int64(int32(n)) {
				value = int32(n)
			}
			if value != nil {
				d = append(d, bson.E{Key: names[i], Value: value})
			}
		}
		list = append(list, d)
	}
	return list, rows.Err()
}

// aggregate knows the stages that filter, sort, cut off and count.
func (t *mongodbTable) aggregate(stages []bson.D) (bson.A, error) {
	var filter, order bson.D
	limit := 0
	for i, stage := range stages {
		if len(stage) != 1 {
			return nil, errMongoDB
		}
		inner, _ := stage[0].Value.(bson.D)
		switch stage[0].Key {
		case "$match":
			filter = append(filter, inner...)
		case "$sort":
			order = inner
		case "$limit":
			n, _ := stage[0].Value.(int32)
			limit = int(n)
		case "$count":
			name, _ := stage[0].Value.(string)
			list, err := t.find(filter, nil, limit, nil)
			if err != nil || i+1 < len(stages) {
				return nil, errors.Join(err, errMongoDB)
			}
			return bson.A{bson.D{{Key: name, Value: len(list)}}}, nil
		case "$out":
			name, _ := stage[0].Value.(string)
			_, err := t.in.Exec("create table " + t.quoted(name) + " as select * from " + t.quoted(t.name))
			return bson.A{}, err
		default:
			return nil, fmt.Errorf("%w: %s", errMongoDB, stage[0].Key)
		}
	}
	return t.find(filter, order, limit, nil)
}

// insert puts a document into the table as a row.
func (t *mongodbTable) insert(d bson.D) error {
	_, own := t.columns()
	var names, places []string
	var values []any
	for _, e := range d {
		names, places, values = append(names, t.column(e.Key, own)), append(places, "?"), append(values, e.Value)
	}
	_, err := t.in.Exec("insert into "+t.quoted(t.name)+" ("+strings.Join(names,
		", ")+") values ("+strings.Join(places, ", ")+")", values...)
	return err
}

// change changes the rows that a filter lets through, or one of them.
func (t *mongodbTable) change(how string, values []any, filter bson.D, one bool) (int64, error) {
	text, more, err := t.where(filter)
	if err != nil {
		return 0, err
	}
	if one {
		text = " where rowid = (select rowid from " + t.quoted(t.name) + text + " limit 1)"
	}
	done, err := t.in.Exec(fmt.Sprintf(how, t.quoted(t.name))+text, append(values, more...)...)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// update sets values.
func (t *mongodbTable) update(filter, to bson.D, several bool) (int64, error) {
	_, own := t.columns()
	var sets []string
	var values []any
	for _, how := range to {
		inner, is := how.Value.(bson.D)
		if how.Key != "$set" || !is {
			return 0, fmt.Errorf("%w: %s", errMongoDB, how.Key)
		}
		for _, e := range inner {
			sets, values = append(sets, t.column(e.Key, own)+" = ?"), append(values, e.Value)
		}
	}
	return t.change("update %s set "+strings.Join(sets, ", "), values, filter, !several)
}
