package standin

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// oracleErrors are the numbers of Oracle Database for the practice server's complaints, by MySQL's.
var oracleErrors = map[uint16]int{1146: 942, 1054: 904, 1305: 904, 1052: 918, 1064: 900, 1050: 955, 1366: 1722,
	1062: 1, 1048: 1400, 1452: 2291, 1792: 1456}

// execute runs a statement.
func (c *oracleConn) execute() bool {
	r := &c.in
	options := r.number()
	cursor := r.number()
	r.byte()
	r.number()
	r.byte()
	r.number()
	r.raw(3)
	prefetch := r.number()
	r.number()
	r.byte()
	binds := r.number()
	r.raw(5)
	r.byte()
	defines := r.number()
	skip := 3 + 5 + 3
	if c.client.fields >= 8 {
		skip += 5
	}
	if c.client.fields >= 9 {
		skip += 2
	}
	r.raw(skip)
	text := ""
	if options&1 != 0 {
		text = r.text()
	}
	for range 13 {
		r.number()
	}
	if r.err != nil {
		return false
	}
	switch {
	case binds > 0:
		return c.fail(1008, 0, "this practice server takes no values beside a statement")
	case options&1 == 0 && c.cursors[cursor] != nil: // what a driver defines of the columns is left aside
		r.rest = nil
		var w oracleWriter
		c.rows(&w, c.cursors[cursor], max(prefetch, 25))
		c.closing(&w, c.cursors[cursor], cursor)
		c.say(w)
		return true
	case defines > 0 || options&1 == 0:
		return c.fail(1001, 0, "there is no such cursor at the practice server")
	}
	if c.after() {
		return false
	}
	found, err := c.run(text, options&0x100 != 0)
	switch {
	case errors.Is(err, errStalled):
		return false
	case err != nil:
		_, number, words := problem(err)
		code := oracleErrors[number]
		var own oracleError
		if errors.As(err, &own) {
			code, words = own.number, own.words
		}
		if code == 0 {
			code = 20000
		}
		at := 0
		if place := whereIn(err, text); place > 0 {
			at = len(string([]rune(text)[:place-1]))
		}
		return c.fail(code, at, words)
	}
	var w oracleWriter
	if found.columns == nil {
		w.ended(c, 0, int(found.affected), 0, 0, "")
		c.say(w)
		return true
	}
	if c.cursors == nil {
		c.cursors = map[int]*result{}
	}
	c.last++
	c.cursors[c.last] = &found
	c.describe(&w, found)
	if prefetch > 0 || options&0x40 != 0 {
		c.rows(&w, &found, max(prefetch, 1))
	}
	if prefetch > 0 && len(found.rows) == 0 {
		c.closing(&w, &found, c.last)
	} else {
		w.ended(c, 0, 0, c.last, 0, "")
	}
	c.say(w)
	return true
}

// after misbehaves at a statement after the login, as the faults ask for.
func (c *oracleConn) after() bool {
	var w oracleWriter
	switch c.server.config.Faults.After {
	case "silence":
		wait(c.conn)
	case "endless":
		found := result{columns: []string{"x"}, rows: [][]any{{"x"}}}
		c.describe(&w, found)
		c.say(w)
		w = nil
		c.rows(&w, &found, 1)
		for block := append([]byte{0, 0}, w...); ; {
			if _, err := c.conn.Write(nil); err != nil {
				break
			}
			head := []byte{0, 0, byte((len(block) + 8) >> 8), byte(len(block) + 8), tnsData, 0, 0, 0}
			if _, err := c.conn.Write(append(head, block...)); err != nil {
				break
			}
		}
	case "giant":
		found := result{columns: []string{"x"}, rows: [][]any{{"x"}}}
		c.describe(&w, found)
		w.bytes(7, 0xfe)
		c.say(w)
		w = nil
		w.number(32000)
		w.bytes(make([]byte, 32000)...)
		for {
			head := []byte{0, 0, byte((len(w) + 10) >> 8), byte(len(w) + 10), tnsData, 0, 0, 0, 0, 0}
			if _, err := c.conn.Write(append(head, w...)); err != nil {
				break
			}
		}
	default:
		return false
	}
	return true
}

// oracleError is a refusal of the practice server's own.
type oracleError struct {
	number int
	words  string
}

func (e oracleError) Error() string { return e.words }

var (
	sysContext = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)sys_context\s*\(\s*'userenv'\s*,\s*'([a-z_]+)'\s*\)`)
	})
	dictionary = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)\bv\$(database|instance)\b`) })
	openModes  = map[State]string{IsOpen: "READ WRITE", IsRestricted: "READ WRITE", IsReadOnly: "READ ONLY",
		IsMounted: "MOUNTED"}
)

// run runs a statement on the practice data. A change begins a transaction, which goes on unless
// the client says to commit it.
func (c *oracleConn) run(text string, commit bool) (result, error) {
	s, state := c.server, c.server.state()
	first := strings.ToLower(firstWord().FindString(text))
	first = strings.TrimSpace(first)
	switch {
	case several(text):
		return result{}, oracleError{933, "this practice server takes one statement at a time"}
	case strings.HasSuffix(strings.TrimSpace(text), ";"):
		return result{}, oracleError{911, "a statement has no semicolon behind it"}
	case first == "alter":
		if strings.Contains(strings.ToLower(text), "database open") {
			s.Become(IsOpen)
		}
		return result{verb: first}, nil
	case state != IsOpen && state != IsReadOnly && state != IsRestricted &&
		dictionary().FindString(text) == "" && !strings.Contains(text, "dual"):
		return result{}, oracleError{1109, "the practice database is not open"}
	}
	standing := "PRIMARY"
	if s.config.Replica {
		standing = "PHYSICAL STANDBY"
	}
	literal := func(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
	context := map[string]string{
		"session_user": c.as.user, "db_name": "huts", "service_name": c.as.database,
		"instance_name": s.instance(), "current_schema": c.as.user,
		"isdba":         strings.ToUpper(strconv.FormatBool(c.sys)),
		"database_role": standing, "sid": strconv.Itoa(int(c.number)), "ip_address": c.as.client,
		"db_unique_name": "huts", "con_name": strings.ToUpper(strings.SplitN(c.as.database, ".", 2)[0]),
	}
	var unknown string
	text = sysContext().ReplaceAllStringFunc(text, func(call string) string {
		name := strings.ToLower(sysContext().FindStringSubmatch(call)[1])
		value, known := context[name]
		if !known {
			unknown = name
		}
		return literal(value)
	})
	if unknown != "" {
		return result{}, oracleError{2003, fmt.Sprintf("this practice server has no %s of a session", unknown)}
	}
	if met := dictionary().FindString(text); met != "" {
		if !c.sys && !strings.EqualFold(c.as.user, s.config.Superuser) {
			return result{}, oracleError{942,
				fmt.Sprintf("the practice data has no table %q, or this user may not see it", strings.ToLower(met))}
		}
		status := "OPEN"
		if state == IsMounted || state == IsStarted {
			status = strings.ToUpper(string(state))
		}
		logins := map[bool]string{true: "RESTRICTED", false: "ALLOWED"}[state == IsRestricted]
		text = dictionary().ReplaceAllString(text,
			fmt.Sprintf("(select %s as open_mode, %s as status, %s as logins)", literal(openModes[state]),
				literal(status), literal(logins)))
	}
	changes := first == "insert" || first == "update" || first == "delete" || first == "merge"
	if changes && state == IsReadOnly {
		return result{}, oracleError{16000, "the practice database is open for reading alone"}
	}
	if changes && !commit && !s.data.inTransaction(c.number) {
		if err := s.data.mayChange(c.number); err == nil {
			if _, err := s.statement(c.conn, c.as, "begin"); err != nil {
				return result{}, err
			}
		}
	}
	return s.statement(c.conn, c.as, text)
}

// describe says which columns a result has: whole numbers and others as NUMBER, bytes as RAW, and
// all else as VARCHAR2.
func (c *oracleConn) describe(w *oracleWriter, r result) {
	w.bytes(16, 0)
	w.number(100)
	w.number(len(r.columns))
	w.bytes(0)
	for i, name := range r.columns {
		kind, size := byte(1), 4000
		for _, row := range r.rows {
			switch row[i].(type) {
			case int64, float64:
				kind, size = 2, 22
			case []byte:
				kind, size = 23, 2000
			case nil:
				continue
			}
			break
		}
		w.bytes(kind, 0, 0)
		switch {
		case c.client.byteDigits || kind != 2:
			w.bytes(0)
		default:
			w.number(0)
		}
		w.number(size)
		w.number(0)
		w.number(0)
		w.said("")
		w.number(0)
		w.number(873)
		w.bytes(1)
		w.number(size)
		if c.client.fields >= 8 {
			w.number(0)
		}
		w.bytes(1, byte(min(len(name), 30)))
		w.said(strings.ToUpper(name))
		w.said("")
		w.said("")
		w.number(0)
		w.number(0)
	}
	w.said("")
	for range 4 {
		w.number(0)
	}
	w.said("")
}

// rows writes some rows of a result, and takes them out of it.
func (c *oracleConn) rows(w *oracleWriter, r *result, n int) {
	if len(r.rows) == 0 {
		return
	}
	w.bytes(6, 0)
	w.number(len(r.columns))
	for range 3 {
		w.number(0)
	}
	w.said("")
	w.said("")
	for ; n > 0 && len(r.rows) > 0; n-- {
		w.bytes(7)
		for _, value := range r.rows[0] {
			switch v := value.(type) {
			case nil:
				w.bytes(0)
			case int64:
				w.text(oracleNumber(strconv.FormatInt(v, 10)))
			case float64:
				w.text(oracleNumber(strconv.FormatFloat(v, 'f', -1, 64)))
			case []byte:
				w.text(string(v))
			default:
				w.text(fmt.Sprint(v))
			}
		}
		r.rows = r.rows[1:]
	}
}

// closing writes the end of a call for rows: with the end of the rows, when all were sent.
func (c *oracleConn) closing(w *oracleWriter, r *result, cursor int) {
	if len(r.rows) > 0 {
		w.ended(c, 0, 0, cursor, 0, "")
		return
	}
	w.ended(c, 1403, 0, cursor, 0, "ORA-01403: there are no more rows\n")
}

// oracleNumber writes a number as NUMBER has it: a byte with the sign and the exponent of 100,
// and a byte for each two digits.
func oracleNumber(text string) string {
	digits, below := strings.CutPrefix(text, "-")
	whole, behind, _ := strings.Cut(digits, ".")
	whole = strings.TrimLeft(whole, "0")
	if len(whole)%2 == 1 {
		whole = "0" + whole
	}
	if len(behind)%2 == 1 {
		behind += "0"
	}
	exponent := len(whole)/2 - 1
	all := whole + behind
	for strings.HasPrefix(all, "00") {
		all = all[2:]
		exponent--
	}
	for strings.HasSuffix(all, "00") {
		all = all[:len(all)-2]
	}
	if all == "" {
		return "\x80"
	}
	data := []byte{byte(exponent+65) | 0x80}
	if below {
		data[0] = ^data[0]
	}
	for i := 0; i < len(all); i += 2 {
		two, _ := strconv.Atoi(all[i : i+2])
		if below {
			data = append(data, byte(101-two))
		} else {
			data = append(data, byte(two+1))
		}
	}
	if below && len(data) < 21 {
		data = append(data, 102)
	}
	return string(data)
}
