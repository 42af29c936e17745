package split

import (
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"testing"

	"vaiven/lab/testkit"
)

func TestParseShare(t *testing.T) {
	for _, c := range []struct {
		text string
		want Share
		ok   bool
	}{
		{"5 %", 500, true},
		{"5%", 500, true},
		{" 100 % ", 10_000, true},
		{"0 %", 0, true},
		{"0.5 %", 50, true},
		{"12.34 %", 1234, true},
		{"1 in 20", 500, true},
		{"1 in 3", 3333, true},
		{"2 in 3", 6667, true},
		{"0 in 3", 0, true},
		{"12.345 %", 0, false},
		{"101 %", 0, false},
		{"-1 %", 0, false},
		{".5 %", 0, false},
		{"5", 0, false},
		{"", 0, false},
		{"%", 0, false},
		{"3 in 2", 0, false},
		{"1 in 0", 0, false},
		{"a in b", 0, false},
		{"99999999999999999999 %", 0, false},
	} {
		got, err := ParseShare(c.text)
		if (err == nil) != c.ok || c.ok && got != c.want {
			t.Errorf("ParseShare(%q) = %d, %v, want %d, ok %v", c.text, got, err, c.want, c.ok)
		}
	}
}

func FuzzParseShare(f *testing.F) {
	for _, s := range []string{"5 %", "12.34 %", "1 in 20", "100 %", "x", "0.00 %", "1 in 18446744073709551615"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseShare(text)
		if err != nil {
			return
		}
		if !s.Valid() {
			t.Fatalf("ParseShare(%q) = %d, which is no share", text, s)
		}
		again, err := ParseShare(s.String())
		if err != nil || again != s {
			t.Fatalf("ParseShare(%v.String()) = %v, %v", s, again, err)
		}
	})
}

func TestEveryShareReadsBack(t *testing.T) {
	for s := Share(0); s <= Whole; s++ {
		if got, err := ParseShare(s.String()); err != nil || got != s {
			t.Fatalf("ParseShare(%q) = %d, %v, want %d", s.String(), got, err, s)
		}
	}
	if got := Share(-250).String(); got != "-2.5 %" {
		t.Errorf("Share(-250) = %q, want -2.5 %%", got)
	}
}

func TestSidesAreWrittenAsWords(t *testing.T) {
	data, err := json.Marshal(map[Side]Side{Blue: Green})
	if err != nil || string(data) != `{"blue":"green"}` {
		t.Errorf("marshal = %s, %v", data, err)
	}
	var s Side
	if err := json.Unmarshal([]byte(`"green"`), &s); err != nil || s != Green {
		t.Errorf("unmarshal green = %v, %v", s, err)
	}
	if err := json.Unmarshal([]byte(`"grene"`), &s); err == nil {
		t.Error("a misspelt side was taken for one")
	}
}

func TestShareOfEachSide(t *testing.T) {
	for _, side := range Sides {
		for s := Share(0); s <= Whole; s += 37 {
			if got := Toward(side, s.Of(side)); got != s {
				t.Fatalf("Toward(%v, %v) = %v, want %v", side, s.Of(side), got, s)
			}
			if s.Of(side)+s.Of(side.Other()) != Whole {
				t.Fatalf("the shares of both sides at %v do not add up", s)
			}
		}
	}
}

// FromWeights against the same in rational numbers.
func TestFromWeightsIsTheNearestShare(t *testing.T) {
	r := testkit.Rand(t)
	for range 2000 {
		shift := r.IntN(64)
		blue, green := r.Uint64()>>(1+shift), r.Uint64()>>(1+r.IntN(64))
		if blue == 0 && green == 0 {
			continue
		}
		got, err := FromWeights(blue, green)
		if err != nil {
			t.Fatalf("FromWeights(%d, %d): %v", blue, green, err)
		}
		sum := new(big.Int).Add(new(big.Int).SetUint64(blue), new(big.Int).SetUint64(green))
		exact := new(big.Rat).SetFrac(new(big.Int).Mul(new(big.Int).SetUint64(green), big.NewInt(int64(Whole))), sum)
		off, _ := new(big.Rat).Sub(exact, big.NewRat(int64(got), 1)).Float64()
		if math.Abs(off) > 0.5000001 {
			t.Fatalf("FromWeights(%d, %d) = %d, off by %g", blue, green, got, off)
		}
	}
	if _, err := FromWeights(0, 0); err == nil {
		t.Error("two zero weights made a share")
	}
	if _, err := FromWeights(math.MaxUint64, 1); err == nil {
		t.Error("weights that overflow made a share")
	}
}

// Places must never change between versions: clients would change sides.
func TestPlacesAreFixed(t *testing.T) {
	for key, want := range map[string]Place{
		"":            0xf52a15e9a9b5e89b,
		"passenger 1": PlaceOf("passenger 1"),
	} {
		if got := PlaceOf(key); got != want {
			t.Errorf("PlaceOf(%q) = %#x, want %#x", key, uint64(got), uint64(want))
		}
	}
}

func TestAGrowingShareNeverTakesAKeyBack(t *testing.T) {
	r := testkit.Rand(t)
	for range 2000 {
		p := Place(r.Uint64())
		was := Blue
		for s := Share(0); s <= Whole; s += Share(1 + r.IntN(700)) {
			now := p.Side(s)
			if was == Green && now == Blue {
				t.Fatalf("place %#x went back to blue at %v", uint64(p), s)
			}
			was = now
		}
		if p.Side(0) != Blue || p.Side(Whole) != Green {
			t.Fatalf("place %#x is not on blue at 0 %% and on green at 100 %%", uint64(p))
		}
	}
}

// The keys of real clients, numbered one after the other, have to spread evenly:
// at each share the part on green may be off by a few standard deviations.
func TestKeysSpreadEvenly(t *testing.T) {
	const clients = 100_000
	for _, share := range []Share{1, 100, 500, 2500, 5000, 9000} {
		green := 0
		for n := range clients {
			if PlaceOf(fmt.Sprintf("client-%d", n)).Side(share) == Green {
				green++
			}
		}
		want := share.Fraction() * clients
		sigma := math.Sqrt(want * (1 - share.Fraction()))
		if math.Abs(float64(green)-want) > 5*sigma+1 {
			t.Errorf("at %v, %d of %d clients are on green, want about %.0f", share, green, clients, want)
		}
	}
}

func BenchmarkPlace(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		PlaceOf("a cookie of usual length, 36 letters").Side(2500)
	}
}

// All requests go to one side at the ends alone, and what a front can do is near what is asked, exactly so at the ends.
func TestTheEndsOfAShare(t *testing.T) {
	for share, want := range map[Share]struct {
		side Side
		all  bool
	}{0: {Blue, true}, 1: {Blue, false}, Whole / 2: {Blue, false}, Whole - 1: {Blue, false}, Whole: {Green, true}} {
		if side, all := share.Alone(); all != want.all || all && side != want.side {
			t.Errorf("at %v all goes to %v: %v", share, side, all)
		}
	}
	for _, c := range []struct {
		share, asked Share
		near         bool
	}{
		{0, 0, true}, {1, 0, false}, {Whole, Whole, true}, {Whole - 1, Whole, false}, {2500, 2500, true},
		{2500 + Coarse, 2500, true}, {2500 - Coarse, 2500, true}, {2501 + Coarse, 2500, false},
		{2499 - Coarse, 2500, false}, {0, Coarse, true},
	} {
		if got := c.share.Near(c.asked); got != c.near {
			t.Errorf("%v is near %v: %v", c.share, c.asked, got)
		}
	}
}
