package report

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/internal/core/trial"
	"vaiven/internal/tryout"
)

func TestChartsOfASplit(t *testing.T) {
	r := tryout.Report{Log: "/var/log/access.log", Keys: []tryout.KeyReport{
		{Key: "client", Result: trial.Result{Window: 1e9, Shares: []trial.ShareResult{{Share: 2500, Windows: []float64{0.2, -1, 0.3, 0.25}}}}},
		{Key: "clock", Result: trial.Result{Window: 1e9, Shares: []trial.ShareResult{{Share: 2500, Windows: []float64{0, 1, 0, 1}}}}},
	}}
	dir := t.TempDir()
	svg := filepath.Join(dir, "split.svg")
	if err := Split(svg, r, 2500); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(svg)
	if err != nil {
		t.Fatal(err)
	}
	for d := xml.NewDecoder(bytes.NewReader(data)); ; {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatalf("the chart is no XML: %v", err)
		}
	}
	for _, want := range []string{"access.log", "25 % asked", "client", "clock"} {
		if !strings.Contains(string(data), want) {
			t.Errorf("%q is not in the chart", want)
		}
	}
	pdf := filepath.Join(dir, "split.pdf")
	if err := Split(pdf, r, 2500); err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(pdf); err != nil || !bytes.HasPrefix(data, []byte("%PDF-")) {
		t.Errorf("the PDF begins with %.8q, %v", data, err)
	}
	if err := Split(filepath.Join(dir, "split.png"), r, 2500); err == nil {
		t.Error("a chart in another format")
	}
	if err := Split(svg, r, split.Whole); err == nil {
		t.Error("a chart of a share that was not tried")
	}
}
