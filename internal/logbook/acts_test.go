package logbook

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

func TestWhatIsDoneByHand(t *testing.T) {
	file := filepath.Join(t.TempDir(), "log.db")
	b := open(t, file)
	within := func() []Act {
		t.Helper()
		list, err := b.Acts(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	err := b.Act(t.Context(), "marit", "shift to 25 %", func() ([]string, string, error) {
		if list := within(); len(list) != 1 || !list[0].Ended.IsZero() || list[0].What != "shift to 25 %" {
			t.Errorf("before it is done, there is %+v", list)
		}
		return []string{"set weight"}, "0 % → 25 %", nil
	})
	if err != nil {
		t.Fatal(err)
	}
	// Cut off, it is still recorded what it came to.
	ctx, cancel := context.WithCancel(t.Context())
	err = b.Act(ctx, "ane", "raise 4.3.0", func() ([]string, string, error) {
		cancel()
		return nil, "", errors.New("no berth is free")
	})
	if err == nil || err.Error() != "no berth is free" {
		t.Errorf("the error is %v", err)
	}
	b.Close()
	b = open(t, file)
	list := within()
	if len(list) != 2 {
		t.Fatalf("there is %+v", list)
	}
	for n := range list {
		if list[n].At.IsZero() || list[n].Ended.Before(list[n].At) {
			t.Errorf("its times are %v and %v", list[n].At, list[n].Ended)
		}
		list[n].At, list[n].Ended = start, start
	}
	want := []Act{
		{At: start, By: "ane", What: "raise 4.3.0", Did: []string{}, Ended: start, Outcome: "no berth is free", Failed: true},
		{At: start, By: "marit", What: "shift to 25 %", Did: []string{"set weight"}, Ended: start, Outcome: "0 % → 25 %"},
	}
	if !reflect.DeepEqual(list, want) {
		t.Errorf("there is\n%+v\nwant\n%+v", list, want)
	}
}

// What cannot be recorded is not done.
func TestAnActThatCannotBeRecorded(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "log.db"))
	b.Close()
	err := b.Act(t.Context(), "marit", "shift to 25 %", func() ([]string, string, error) {
		t.Error("it was done all the same")
		return nil, "", nil
	})
	if err == nil || !strings.Contains(err.Error(), "nothing was done") {
		t.Errorf("the error is %v", err)
	}
}

// A logbook of an earlier Vaiven gets what it lacks, and keeps what it has.
func TestAnOlderLogbookIsMigrated(t *testing.T) {
	file := filepath.Join(t.TempDir(), "log.db")
	b := open(t, file)
	write(t, b, 1)
	b.Close()
	db, err := sql.Open("sqlite", file)
	if err == nil {
		_, err = db.Exec("DROP TABLE acts; PRAGMA user_version = 1")
		err = errors.Join(err, db.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	b = open(t, file)
	crossings, err1 := b.Crossings(t.Context())
	acts, err2 := b.Acts(t.Context())
	if err := errors.Join(err1, err2); err != nil || len(crossings) != 1 || len(acts) != 0 {
		t.Errorf("there are %d crossings and %d acts, %v", len(crossings), len(acts), err)
	}
}
