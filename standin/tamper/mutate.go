package tamper

import (
	"bytes"
	"math/rand/v2"
	"sync"
)

// Mutator changes some messages at random, as faults and people without a plan do. The
// zero value changes nothing.
type Mutator struct {
	mu     sync.Mutex
	random *rand.Rand
	oneOf  int
	count  int
}

// Begin has one of so many messages changed from now on, drawn by a seed; End, none.
func (m *Mutator) Begin(seed uint64, oneOf int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.random, m.oneOf = rand.New(rand.NewPCG(seed, 24)), oneOf
}

// End leaves messages as they are from now on.
func (m *Mutator) End() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.oneOf = 0
}

// Changed is how many messages were changed.
func (m *Mutator) Changed() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.count
}

// Message changes a message, or not.
func (m *Mutator) Message(message []byte) []byte {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.oneOf == 0 || len(message) == 0 || m.random.IntN(m.oneOf) > 0 {
		return message
	}
	m.count++
	at := m.random.IntN(len(message))
	switch m.random.IntN(6) {
	case 0:
		message[at] ^= 1 << m.random.IntN(8)
	case 1:
		message[at] = byte(m.random.IntN(256))
	case 2:
		for i := at; i < min(at+8, len(message)); i++ {
			message[i] = 0xff
		}
	case 3:
		return message[:at]
	case 4:
		return append(message, bytes.Repeat([]byte{byte(m.random.IntN(256))}, m.random.IntN(100_000))...)
	case 5:
		return bytes.Join([][]byte{message[:at], message[max(0, at-m.random.IntN(64)):]}, nil)
	}
	return message
}

// numbers are what numbers in a line are changed to: what would be reserved, counted or
// slept by who believes them.
var numbers = []string{"-1", "0", "1", "9223372036854775807", "-9223372036854775808", "1e999", "4294967296", "null", `"7"`, "1152921504606846975"}

// Line changes a line of JSON, or not: as Message does, or a number in it.
func (m *Mutator) Line(line []byte) []byte {
	m.mu.Lock()
	digit := -1
	if m.oneOf > 0 && m.random.IntN(m.oneOf) == 0 {
		digit = m.digit(line)
	}
	if digit < 0 {
		m.mu.Unlock()
		return m.Message(line)
	}
	defer m.mu.Unlock()
	m.count++
	end := digit
	for end < len(line) && line[end] >= '0' && line[end] <= '9' {
		end++
	}
	number := numbers[m.random.IntN(len(numbers))]
	return bytes.Join([][]byte{line[:digit], []byte(number), line[end:]}, nil)
}

// digit is where a number in a line begins, about; -1 when it has none.
func (m *Mutator) digit(line []byte) int {
	isDigit := func(b byte) bool { return b >= '0' && b <= '9' }
	from := m.random.IntN(len(line) + 1)
	if i := bytes.IndexAny(line[from:], "0123456789"); i >= 0 {
		from += i
	} else if from = bytes.IndexAny(line, "0123456789"); from < 0 {
		return -1
	}
	for from > 0 && isDigit(line[from-1]) {
		from--
	}
	return from
}

// Lines changes the lines of an answer, each or not. Content behind the first one passes
// as it is, unless all are lines.
func (m *Mutator) Lines(answer []byte, all bool) []byte {
	first, rest, ok := bytes.Cut(answer, []byte("\n"))
	if !ok {
		return m.Line(answer)
	}
	changed := append(bytes.Clone(m.Line(first)), '\n')
	if !all {
		return append(changed, rest...)
	}
	for line := range bytes.SplitAfterSeq(rest, []byte("\n")) {
		changed = append(changed, m.Line(bytes.Clone(line))...)
	}
	return changed
}
