package standin

import (
	"encoding/binary"
	"math"
)

// prepare serves COM_STMT_PREPARE: the statement is kept, and runs when it has its values.
func (c *mysqlConn) prepare(text string) bool {
	n := places(text)
	if n > 1000 || len(c.prepared) > 1000 {
		c.refuse(1461, "42000", "This practice server keeps no more statements")
		return true
	}
	if c.prepared == nil {
		c.prepared = map[uint32]string{}
	}
	c.statements++
	id := uint32(c.statements)
	c.prepared[id] = text
	p := binary.LittleEndian.AppendUint32([]byte{0}, id)
	p = append(binary.LittleEndian.AppendUint16(append(p, 0, 0), uint16(n)), 0, 0, 0)
	packets := [][]byte{p}
	for range n {
		packets = append(packets, column("?", result{}, 0))
	}
	if n > 0 {
		packets = append(packets, []byte{0xfe, 0, 0, 2, 0})
	}
	for _, p := range packets {
		if c.write(p) != nil {
			return false
		}
	}
	return true
}

// execute serves COM_STMT_EXECUTE.
func (c *mysqlConn) execute(p []byte) bool {
	if len(p) < 9 {
		return false
	}
	text, known := c.prepared[binary.LittleEndian.Uint32(p)]
	if !known {
		c.refuse(1243, "HY000", "This practice server has no such statement")
		return true
	}
	values, ok := parameters(p[9:], places(text))
	if !ok {
		return false
	}
	r, err := c.server.statement(c.conn, c.as, text, values...)
	if goesOn, ended := c.ended(r, err); ended {
		return goesOn
	}
	return c.result(r, func(row []any) []byte { return binaryRow(row, r) })
}

// parameters reads the values of a statement: which of them are null, their types, and their bytes.
func parameters(p []byte, n int) ([]any, bool) {
	if n == 0 {
		return nil, true
	}
	nulls := (n + 7) / 8
	if len(p) < nulls+1+2*n || p[nulls] != 1 {
		return nil, false
	}
	values, types, rest := make([]any, n), p[nulls+1:], p[nulls+1+2*n:]
	for i := range values {
		if p[i/8]&(1<<(i%8)) != 0 {
			continue
		}
		switch types[2*i] {
		case 8:
			if len(rest) < 8 {
				return nil, false
			}
			values[i], rest = int64(binary.LittleEndian.Uint64(rest)), rest[8:]
		default: // a text, or what is written like one
			size, head := 0, 1
			switch {
			case len(rest) == 0:
				return nil, false
			case rest[0] < 0xfb:
				size = int(rest[0])
			case rest[0] == 0xfc && len(rest) > 2:
				size, head = int(binary.LittleEndian.Uint16(rest[1:])), 3
			case rest[0] == 0xfd && len(rest) > 3:
				size, head = int(rest[1])|int(rest[2])<<8|int(rest[3])<<16, 4
			default:
				return nil, false
			}
			if len(rest) < head+size {
				return nil, false
			}
			values[i], rest = string(rest[head:head+size]), rest[head+size:]
		}
	}
	return values, true
}

// binaryRow packs a row as the answer to a prepared statement has it ("Binary Protocol Resultset
// Row").
func binaryRow(row []any, r result) []byte {
	p := append([]byte{0}, make([]byte, (len(row)+9)/8)...)
	for i, value := range row {
		if value == nil {
			p[1+(i+2)/8] |= 1 << ((i + 2) % 8)
			continue
		}
		of := column("", r, i)
		switch v, kind := value, of[len(of)-6]; {
		case kind == 8:
			n, _ := v.(int64)
			p = binary.LittleEndian.AppendUint64(p, uint64(n))
		case kind == 5:
			f, is := v.(float64)
			if n, whole := v.(int64); !is && whole {
				f = float64(n)
			}
			p = binary.LittleEndian.AppendUint64(p, math.Float64bits(f))
		default:
			p = text255(p, plain(v))
		}
	}
	return p
}
