// Package pager keeps the rows of a long result, and says what a screen of them looks like. It
// knows nothing of terminals or of servers.
package pager

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"sync"
)

// Bounds of what is kept of a result.
const (
	// MostKept is how many bytes of rows are kept: beyond that whoever adds waits.
	MostKept = 1 << 30
	inMemory = 1 << 20 // bytes that are kept without a file
	chunk    = 64      // rows, of which the place of the first is noted
)

// ErrClosed is the error of a store that was closed.
var ErrClosed = errors.New("the rows were given up")

// Store keeps rows of texts in the order in which they come: the first ones in memory, all of
// them in a file once they are many. One goroutine adds, others read.
type Store struct {
	// Most is how many bytes are kept; [MostKept] for 0.
	Most int64
	// Temp makes the file. Its name is taken away as soon as it is open, where the system can do
	// that, else when the store is closed.
	Temp func() (*os.File, error)

	mu     sync.Mutex
	room   *sync.Cond
	places []int64 // of the first row of each chunk
	rows   int
	size   int64
	memory []byte
	file   *os.File
	to     *bufio.Writer
	named  string
	waits  bool // whoever adds waits
	closed bool
	whole  bool
}

// NewStore makes a store.
func NewStore(temp func() (*os.File, error)) *Store {
	s := &Store{Temp: temp}
	s.room = sync.NewCond(&s.mu)
	return s
}

// Add adds a row. It waits while there is no room, until the store is closed: its error is
// [ErrClosed] then.
func (s *Store) Add(row []string) error {
	var data []byte
	data = binary.AppendUvarint(data, uint64(len(row)))
	for _, cell := range row {
		data = binary.AppendUvarint(data, uint64(len(cell)))
		data = append(data, cell...)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	most := s.Most
	if most == 0 {
		most = MostKept
	}
	for s.size+int64(len(data)) > most && s.rows > 0 && !s.closed {
		s.waits = true
		s.room.Wait()
	}
	if s.closed {
		return ErrClosed
	}
	if s.rows%chunk == 0 {
		s.places = append(s.places, s.size)
	}
	s.rows++
	s.size += int64(len(data))
	if s.file == nil && s.size <= inMemory {
		s.memory = append(s.memory, data...)
		return nil
	}
	return s.spool(data)
}

// spool writes to the file, which has all rows.
func (s *Store) spool(data []byte) error {
	if s.file == nil {
		file, err := s.Temp()
		if err != nil {
			return err
		}
		s.file, s.to = file, bufio.NewWriterSize(file, 64<<10)
		if os.Remove(file.Name()) != nil {
			s.named = file.Name()
		}
		if _, err := s.to.Write(s.memory); err != nil {
			return err
		}
		s.memory = nil
	}
	_, err := s.to.Write(data)
	return err
}

// Whole notes that no more rows come.
func (s *Store) Whole() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.whole = true
}

// State gives how many rows there are, whether they are all, and whether whoever adds waits for
// room.
func (s *Store) State() (rows int, whole, waits bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.rows, s.whole, s.waits
}

// Rows gives some rows from a number on, from 0; fewer where there are no more.
func (s *Store) Rows(from, n int) ([][]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil, ErrClosed
	}
	n = min(n, s.rows-from)
	if from < 0 || n <= 0 {
		return nil, nil
	}
	var in *bufio.Reader
	at := s.places[from/chunk]
	if s.file == nil {
		in = bufio.NewReader(&reader{s.memory[at:]})
	} else {
		if err := s.to.Flush(); err != nil {
			return nil, err
		}
		in = bufio.NewReaderSize(io.NewSectionReader(s.file, at, s.size-at), 64<<10)
	}
	rows := make([][]string, 0, n)
	for skip := from % chunk; len(rows) < n; skip-- {
		row, err := next(in)
		if err != nil {
			return rows, err
		}
		if skip <= 0 {
			rows = append(rows, row)
		}
	}
	return rows, nil
}

type reader struct{ rest []byte }

func (r *reader) Read(p []byte) (int, error) {
	if len(r.rest) == 0 {
		return 0, io.EOF
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// next reads a row.
func next(in *bufio.Reader) ([]string, error) {
	cells, err := binary.ReadUvarint(in)
	if err != nil {
		return nil, err
	}
	row := make([]string, cells)
	for i := range row {
		size, err := binary.ReadUvarint(in)
		if err != nil {
			return nil, err
		}
		cell := make([]byte, size)
		if _, err := io.ReadFull(in, cell); err != nil {
			return nil, err
		}
		row[i] = string(cell)
	}
	return row, nil
}

// Close gives the rows up, and whoever waits for room.
func (s *Store) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return
	}
	s.closed = true
	s.room.Broadcast()
	if s.file != nil {
		_ = s.file.Close()
		if s.named != "" {
			_ = os.Remove(s.named)
		}
	}
	s.memory, s.places = nil, nil
}
