package oracle

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf16"

	"gentle-harbor/internal/engine"
)

// The kinds of data of columns ("Oracle Built-in Data Types", the engine's SQL Language
// Reference; go-ora, oracletype_string.go).
const (
	kindText      = 1
	kindNumber    = 2
	kindLong      = 8
	kindDate      = 12
	kindRaw       = 23
	kindLongRaw   = 24
	kindChar      = 96
	kindFloat     = 100
	kindDouble    = 101
	kindTimestamp = 180
	kindZoned     = 181
	kindMonths    = 182
	kindDays      = 183
)

// scaled reports whether the digits behind the point of a kind of data come as a whole number,
// and not as a byte.
func scaled(kind int) bool {
	switch kind {
	case kindNumber, kindTimestamp, kindZoned, kindDays, 187, 188, 190, 231, 232:
		return true
	}
	return false
}

// typeOf gives the engine's name of a column's type and what its values are; "" for a kind whose
// values are not read here.
func typeOf(kind, digits, behind int, of string) (name string, is engine.Kind) {
	switch kind {
	case kindText:
		return "VARCHAR2", engine.Text
	case kindChar:
		return "CHAR", engine.Text
	case kindLong:
		return "LONG", engine.Text
	case kindNumber:
		if digits != 0 && behind == 0 {
			return "NUMBER", engine.Integer
		}
		return "NUMBER", engine.Decimal
	case kindDate:
		return "DATE", engine.Time
	case kindRaw:
		return "RAW", engine.Bytes
	case kindLongRaw:
		return "LONG RAW", engine.Bytes
	case kindFloat:
		return "BINARY_FLOAT", engine.Float
	case kindDouble:
		return "BINARY_DOUBLE", engine.Float
	case kindTimestamp:
		return "TIMESTAMP", engine.Time
	case kindZoned:
		return "TIMESTAMP WITH TIME ZONE", engine.TimeWithZone
	case kindMonths:
		return "INTERVAL YEAR TO MONTH", engine.Interval
	case kindDays:
		return "INTERVAL DAY TO SECOND", engine.Interval
	}
	names := map[int]string{11: "ROWID", 102: "a cursor", 109: of, 111: "REF", 112: "CLOB", 113: "BLOB",
		114: "BFILE", 119: "JSON", 127: "VECTOR", 208: "UROWID", 231: "TIMESTAMP WITH LOCAL TIME ZONE", 252: "BOOLEAN"}
	if name = names[kind]; name == "" {
		name = "number " + strconv.Itoa(kind)
	}
	return name, ""
}

// value reads the value of a column.
func (c column) value(r *reader) engine.Cell {
	if c.size == 0 && c.kind != kindLong && c.kind != kindLongRaw {
		return engine.Cell{Null: true} // such as null itself: nothing is sent
	}
	data := r.text()
	if data == nil || r.err != nil {
		return engine.Cell{Null: true}
	}
	text, ok := "", true
	switch c.kind {
	case kindText, kindChar, kindLong:
		if text = string(data); c.national {
			text = wideText(data)
		}
	case kindRaw, kindLongRaw:
		text = string(data)
	case kindNumber:
		text, ok = numberText(data)
	case kindDate, kindTimestamp, kindZoned:
		text, ok = timeText(data)
	case kindFloat, kindDouble:
		text, ok = floatText(data)
	case kindMonths, kindDays:
		text, ok = intervalText(data)
	default:
		ok = false
	}
	if !ok {
		r.wrong("a value that its type cannot have")
	}
	return engine.Cell{Text: text}
}

// wideText gives a text of UTF-16, the high byte first.
func wideText(data []byte) string {
	units := make([]uint16, len(data)/2)
	for i := range units {
		units[i] = binary.BigEndian.Uint16(data[2*i:])
	}
	return string(utf16.Decode(units))
}

// numberText reads a NUMBER: a byte with the sign and the exponent of 100, and a byte for each
// two digits. Below zero, they count down, and a byte of 102 ends them ("Internal Numeric
// Format", the engine's SQL Language Reference and its OCI Programmer's Guide).
func numberText(data []byte) (string, bool) {
	switch {
	case len(data) == 1 && data[0] == 0x80:
		return "0", true
	case len(data) == 1 && data[0] == 0:
		return "-Infinity", true
	case len(data) == 2 && data[0] == 0xff && data[1] == 101:
		return "Infinity", true
	case len(data) < 2 || len(data) > 21+1:
		return "", false
	}
	below := data[0]&0x80 == 0
	exponent := int(data[0]&0x7f) - 65
	digits := data[1:]
	if below {
		exponent = int(^data[0]&0x7f) - 65
		if digits[len(digits)-1] == 102 {
			digits = digits[:len(digits)-1]
		}
		if len(digits) == 0 {
			return "", false
		}
	}
	var all strings.Builder
	for _, d := range digits {
		two := int(d) - 1
		if below {
			two = 101 - int(d)
		}
		if two < 0 || two > 99 {
			return "", false
		}
		fmt.Fprintf(&all, "%02d", two)
	}
	text, point := all.String(), 2*(exponent+1)
	if missing := point - len(text); missing > 0 {
		text += strings.Repeat("0", missing)
	}
	if point < 0 {
		text, point = strings.Repeat("0", -point)+text, 0
	}
	whole, rest := strings.TrimLeft(text[:point], "0"), strings.TrimRight(text[point:], "0")
	if whole == "" {
		whole = "0"
	}
	if rest != "" {
		whole += "." + rest
	}
	if below {
		whole = "-" + whole
	}
	return whole, true
}

// timeText reads a DATE of 7 bytes, a TIMESTAMP of 7 or 11, or one with a time zone of 13, whose
// time is UTC's.
func timeText(data []byte) (string, bool) {
	if len(data) != 7 && len(data) != 11 && len(data) != 13 {
		return "", false
	}
	year := (int(data[0])-100)*100 + int(data[1]) - 100
	parts := []int{int(data[2]), int(data[3]), int(data[4]) - 1, int(data[5]) - 1, int(data[6]) - 1}
	for i, most := range []int{12, 31, 23, 59, 59} {
		if parts[i] < 0 || parts[i] > most {
			return "", false
		}
	}
	text := fmt.Sprintf("%04d-%02d-%02d %02d:%02d:%02d", year, parts[0], parts[1], parts[2], parts[3], parts[4])
	if len(data) >= 11 {
		nanos := binary.BigEndian.Uint32(data[7:])
		if nanos > 999_999_999 {
			return "", false
		}
		if rest := strings.TrimRight(fmt.Sprintf("%09d", nanos), "0"); rest != "" {
			text += "." + rest
		}
	}
	if len(data) == 13 {
		text += "+00:00"
	}
	return text, true
}

// floatText reads a BINARY_FLOAT or a BINARY_DOUBLE (IEEE 754), whose bits are turned so that
// they sort as bytes do.
func floatText(data []byte) (string, bool) {
	if len(data) != 4 && len(data) != 8 {
		return "", false
	}
	turned := make([]byte, len(data))
	for i, b := range data {
		if turned[i] = ^b; data[0]&0x80 != 0 {
			turned[i] = b
		}
	}
	turned[0] &= 0x7f
	if data[0]&0x80 == 0 {
		turned[0] |= 0x80
	}
	value, size := 0.0, 64
	if len(data) == 4 {
		value, size = float64(math.Float32frombits(binary.BigEndian.Uint32(turned))), 32
	} else {
		value = math.Float64frombits(binary.BigEndian.Uint64(turned))
	}
	switch {
	case math.IsInf(value, 1):
		return "Infinity", true
	case math.IsInf(value, -1):
		return "-Infinity", true
	}
	return strconv.FormatFloat(value, 'g', -1, size), true
}

// intervalText reads an interval of 5 bytes, in years and months, or of 11, in days and what is
// below.
func intervalText(data []byte) (string, bool) {
	if len(data) != 5 && len(data) != 11 {
		return "", false
	}
	first := int64(binary.BigEndian.Uint32(data)) - 1<<31
	sign := "+"
	abs := func(n int64) int64 {
		if n < 0 {
			sign = "-"
			return -n
		}
		return n
	}
	if len(data) == 5 {
		years, months := abs(first), abs(int64(data[4])-60)
		return fmt.Sprintf("%s%d-%d", sign, years, months), months < 12
	}
	days, hours, minutes, seconds := abs(first), abs(int64(data[4])-60), abs(int64(data[5])-60), abs(int64(data[6])-60)
	nanos := abs(int64(binary.BigEndian.Uint32(data[7:])) - 1<<31)
	text := fmt.Sprintf("%s%d %02d:%02d:%02d", sign, days, hours, minutes, seconds)
	if rest := strings.TrimRight(fmt.Sprintf("%09d", nanos), "0"); rest != "" {
		text += "." + rest
	}
	return text, hours < 24 && minutes < 60 && seconds < 60 && nanos < 1_000_000_000
}
