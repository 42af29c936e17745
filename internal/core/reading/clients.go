package reading

import (
	"encoding/binary"
	"errors"
	"math"
	"time"

	"vaiven/internal/core/evidence"
)

// Clients is how a side's clients fared, since the front started, where the front tells: by blocks of
// [ClientBlock], of which only those that are over are counted, and none in which the share changed. What befalls the
// same client again and again is no more evidence. So a client is at risk in a block if it asked and was not bad
// lately, and what counts is that it turns bad; it is at risk again after six blocks of good answers, among those that
// were bad as often before. So each client counts at most once among its like, which is the stratified form of the safe
// log-rank test, whatever a client's answers have to do with each other (Grünwald, Ly, Pérez-Ortiz and ter Schure, "The
// safe logrank test", AISTATS 2024).
type Clients struct {
	Seen  int64  `json:"seen"`            // each once for every change of the share
	Asked int64  `json:"asked,omitempty"` // clients that asked, in each block anew
	Good  int64  `json:"good,omitempty"`  // of them, those that had a good answer in it
	Turns []byte `json:"turns,omitempty"` // as of [Turned.Bytes]
}

// Plus is what two processes of a front have counted together, as far as both can be read.
func (c Clients) Plus(d Clients) Clients {
	c.Seen, c.Asked, c.Good = c.Seen+d.Seen, c.Asked+d.Asked, c.Good+d.Good
	mine, err := TurnedOf(c.Turns)
	theirs, errTheirs := TurnedOf(d.Turns)
	if err == nil && errTheirs == nil && len(d.Turns) > 0 {
		mine.Add(theirs)
		c.Turns = mine.Bytes()
	}
	return c
}

// ClientBlock is how long clients are counted together, and ClientHeals after how many blocks of good answers, in which
// it asked, one that was bad is at risk again.
const (
	ClientBlock = 5 * time.Second
	ClientHeals = 6
)

// The grades in which a client can be bad in a block.
const (
	AnyAnswer   = iota // one of its answers was bad, however many it had
	FirstAnswer        // its first one was, which is as likely as that any request is bad
	Grades
)

// Levels is how many bounds of time there are that clients are counted by: four to each doubling, from a millisecond
// to half a minute. Level 0 is no bound: there it is answers with status 500 and above, lost ones, and those that a
// client gave up that are bad.
const Levels = 60

// Level is the highest of the bounds that a time is above, from 1; 0 if it is above none.
func Level(took time.Duration) int {
	if took <= time.Millisecond {
		return 0
	}
	return min(1+int(4*math.Log2(float64(took)/float64(time.Millisecond))), Levels)
}

// NearestLevel is the level whose bound is nearest to one, an eleventh part of it off at most; 0 for no bound.
func NearestLevel(bound time.Duration) int {
	if bound <= 0 {
		return 0
	}
	n := math.Round(4 * math.Log2(max(float64(bound)/float64(time.Millisecond), 1)))
	return min(1+int(n), Levels)
}

// Turns are clients at risk, and of them those that turned bad: by how often they had before. Who has [Strata] times
// is not at risk any more.
type Turns [Strata]evidence.Count

// Strata is how many kinds of client there are by how often they were bad.
const Strata = 16

// Turned are the turns by grade and level.
type Turned [Grades][Levels + 1]Turns

// Add adds others.
func (t *Turned) Add(more *Turned) {
	for grade := range t {
		for level := range t[grade] {
			for n := range t[grade][level] {
				t[grade][level][n] = t[grade][level][n].Plus(more[grade][level][n])
			}
		}
	}
}

// Minus is what was counted since an earlier time; nil if it began anew since.
func (t *Turned) Minus(before *Turned) *Turned {
	more := new(Turned)
	for grade := range t {
		for level := range t[grade] {
			for n, now := range t[grade][level] {
				was := before[grade][level][n]
				if now.Bad < was.Bad || now.Of < was.Of {
					return nil
				}
				more[grade][level][n] = evidence.Count{Bad: now.Bad - was.Bad, Of: now.Of - was.Of}
			}
		}
	}
	return more
}

// Bytes are the turns as they are sent: by grade and level, for each how many strata follow, and of each who turned bad
// and who was at risk.
func (t *Turned) Bytes() []byte {
	var data []byte
	for grade := range t {
		for level := range t[grade] {
			turns := &t[grade][level]
			used := Strata
			for used > 0 && turns[used-1].Of == 0 {
				used--
			}
			data = append(data, byte(used))
			for _, c := range turns[:used] {
				data = binary.AppendUvarint(binary.AppendUvarint(data, uint64(c.Bad)), uint64(c.Of))
			}
		}
	}
	return data
}

// ErrTurns is the error for what are no turns.
var ErrTurns = errors.New("the front tells of clients in a way that is not known here")

// TurnedOf reads what [Turned.Bytes] wrote, and nothing as none.
func TurnedOf(data []byte) (*Turned, error) {
	t := new(Turned)
	if len(data) == 0 {
		return t, nil
	}
	for grade := range t {
		for level := range t[grade] {
			if len(data) == 0 || data[0] > Strata {
				return nil, ErrTurns
			}
			used := int(data[0])
			data = data[1:]
			for n := range used {
				bad, size := binary.Uvarint(data)
				if size <= 0 {
					return nil, ErrTurns
				}
				of, more := binary.Uvarint(data[size:])
				if more <= 0 || of > math.MaxInt64 || bad > of {
					return nil, ErrTurns
				}
				data = data[size+more:]
				t[grade][level][n] = evidence.Count{Bad: int64(bad), Of: int64(of)}
			}
		}
	}
	if len(data) > 0 {
		return nil, ErrTurns
	}
	return t, nil
}
