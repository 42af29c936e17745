package haproxy

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// longest is how many bytes of commands go into one line. HAProxy's buffer has
// tune.bufsize, 16384 unless set.
const longest = 8 << 10

// ask sends commands in one line and returns all that is said. A line is carried out
// command by command, with nothing else in between at its thread.
func (d *Driver) ask(ctx context.Context, commands ...string) (string, error) {
	network, address := d.config.where()
	defer d.turn(ctx, address)()
	conn, err := d.on.Dial(ctx, network, address)
	for pause := time.Millisecond; errors.Is(err, syscall.EAGAIN) && ctx.Err() == nil; { // its queue is full
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, mostPause)
		conn, err = d.on.Dial(ctx, network, address)
	}
	switch {
	case errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
		return "", fmt.Errorf("%w: no permission for the socket %s: run Vaiven as a user that the configuration's "+
			"\"stats socket\" line lets in", front.ErrUnreachable, address)
	case err != nil && !errors.Is(err, syscall.ECONNREFUSED) && !errors.Is(err, syscall.ENOENT):
		return "", fmt.Errorf("%w at %s: %w", front.ErrUnreachable, address, err)
	case err != nil:
		return "", fmt.Errorf("%w: nobody listens at %s (is HAProxy running, with \"stats socket %s level admin\"?)",
			front.ErrUnreachable, address, d.config.Bound())
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	_, err = io.WriteString(conn, strings.Join(commands, "; ")+"\n")
	var said []byte
	if err == nil {
		said, err = io.ReadAll(conn)
	}
	if err == nil {
		err = ctx.Err()
	}
	if err == nil && len(said) == 0 { // it ends every answer with an empty line
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return "", fmt.Errorf("%w at %s: %w", front.ErrUnreachable, address, err)
	}
	return string(said), nil
}

// tell carries out commands that say nothing when they succeed, in order, and stops at
// the line in which one does not.
func (d *Driver) tell(ctx context.Context, commands []string) error {
	for len(commands) > 0 {
		n, size := 0, 0
		for n < len(commands) && (n == 0 || size+len(commands[n]) < longest) {
			size += len(commands[n]) + 2
			n++
		}
		said, err := d.ask(ctx, commands[:n]...)
		if err != nil {
			return err
		}
		if said = trouble(said); said != "" {
			return fmt.Errorf("%w: HAProxy says %q to %q", front.ErrRefused, said,
				secretKey.ReplaceAllString(strings.Join(commands[:n], "; "), doorSuffix+".…"))
		}
		commands = commands[n:]
	}
	return nil
}

// mayTell is an error if the socket lets us read and nothing else, if the map is another service's as well, or if it
// takes numbers alone: then it holds the share, and refuses an order of going home. It changes nothing.
func (d *Driver) mayTell(ctx context.Context) error {
	said, err := d.ask(ctx, "show cli level")
	if level := strings.TrimSpace(said); err == nil && level != "admin" {
		err = fmt.Errorf("%w: HAProxy lets us in at level %q: weights need \"level admin\" in the configuration's "+
			"\"stats socket\" line", front.ErrRefused, level)
	}
	if err != nil || d.config.Weighs() {
		return err
	}
	if s, err := d.look(ctx); err != nil {
		return err
	} else if err := d.alone(s); err != nil {
		return err
	}
	version, err := d.empty(ctx) // which is never put in force
	if err != nil {
		return err
	}
	of := fmt.Sprintf("map @%s %s", version, d.config.Map)
	said, err = d.ask(ctx, fmt.Sprintf("add %s %s %s", of, d.orderKey(), encode(reading.Order{})), "clear "+of)
	if said = trouble(said); err == nil && said != "" {
		err = fmt.Errorf("%w: HAProxy's map %s takes no text (%s), and so no order of rolling back: write map(%[2]s,0) "+
			"in its configuration where it has map_str_int", front.ErrRefused, d.config.Map, said)
	}
	return err
}

// trouble is what is left of HAProxy's words when those are gone by which it says that
// it did what it was told.
func trouble(said string) string {
	var left []string
	for line := range strings.Lines(said) {
		line = strings.TrimSpace(line)
		if line != "" && !strings.HasSuffix(line, "by 'stats socket command'") {
			left = append(left, line)
		}
	}
	return strings.Join(left, " ")
}

// Bits of srv_admin_state that keep all requests away, and all but those of sessions.
const (
	maintenance = 0x01 | 0x02 | 0x20 | 0x40 // forced, inherited, by resolution, by name
	draining    = 0x08 | 0x10               // forced, inherited
)

// server is one server of a backend as HAProxy has it.
type server struct {
	backend, name string
	address       string // host:port
	weight        int
	admin         int
	counts        counts
	status        string // "UP", "DOWN", "MAINT", "no check" ...
	said          string // what its last check found: "Layer4 connection problem"
	rise          int    // how many good checks bring it up
}

func (s server) path() string { return s.backend + "/" + s.name }

// in reports whether the server gets requests by its weight.
func (s server) in() bool { return s.admin&(maintenance|draining) == 0 }

// counts are what a server, or a backend, has counted since HAProxy started.
type counts struct {
	sessions, open, queued, connect, response, left int64
	status                                          [6]int64
	average                                         int64 // ms to the first byte, of about the last 500 answers
}

// answered is how many requests got a status.
func (c counts) answered() (n int64) {
	for _, of := range c.status {
		n += of
	}
	return n
}

// less reports whether any count is lower than another's: then it began anew.
func (c counts) less(than counts) bool {
	less := c.sessions < than.sessions || c.connect < than.connect || c.response < than.response || c.left < than.left
	for class := range c.status {
		less = less || c.status[class] < than.status[class]
	}
	return less
}

// table is one of HAProxy's tables with its columns by name.
type table struct {
	columns map[string]int
	rows    [][]string
}

func (t table) text(row []string, column string) string {
	n, ok := t.columns[column]
	if !ok || n >= len(row) {
		return ""
	}
	return row[n]
}

// number is a figure, 0 where the field is empty.
func (t table) number(row []string, column string) int64 {
	n, _ := strconv.ParseInt(t.text(row, column), 10, 64)
	return n
}

func newTable(header []string) table {
	t := table{columns: map[string]int{}}
	for n, name := range header {
		t.columns[name] = n
	}
	return t
}

// parseState reads the answer of "show servers state".
func parseState(text string) (table, error) {
	lines := strings.Split(text, "\n")
	for n, line := range lines {
		header, ok := strings.CutPrefix(line, "# ")
		if !ok || !strings.HasPrefix(header, "be_id ") {
			continue
		}
		t := newTable(strings.Fields(header))
		for _, row := range lines[n+1:] {
			fields := strings.Fields(row)
			if len(fields) == 0 {
				break
			}
			if len(fields) < len(t.columns)-1 {
				return table{}, fmt.Errorf("HAProxy's state of servers has a line with %d of %d columns", len(fields),
					len(t.columns))
			}
			t.rows = append(t.rows, fields)
		}
		return t, nil
	}
	return table{}, fmt.Errorf("%w: HAProxy does not show the state of its servers: %s", front.ErrRefused,
		excerpt(text))
}

// parseStat reads the answer of "show stat".
func parseStat(text string) (table, error) {
	at := strings.Index(text, "# pxname,")
	if at < 0 {
		return table{}, fmt.Errorf("%w: HAProxy does not show its counters: %s", front.ErrRefused, excerpt(text))
	}
	text = text[at+2:]
	if end := strings.Index(text, "\n\n"); end >= 0 {
		text = text[:end+1]
	}
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	if err != nil {
		return table{}, fmt.Errorf("HAProxy's counters: %w", err)
	}
	t := newTable(rows[0])
	t.rows = rows[1:]
	return t, nil
}

func excerpt(text string) string {
	text = strings.TrimSpace(text)
	if len(text) > 120 {
		text = text[:120] + "…"
	}
	return strconv.Quote(text)
}

// state is what is read in one go.
type state struct {
	servers  []server // of our backends, in HAProxy's order
	doors    []server // of the backends of the spare side's own door
	spare    front.Spare
	backends map[string]counts
	raw      table // of all servers of HAProxy, for the state file
	share    int   // in the map, basis points
	inMap    bool  // the key is in the map
	order    reading.Order
	entries  [][2]string // of the map, in its order
	sticky   bool        // clients keep a server of our backends: by a cookie, or by a table of who was where
}

// look reads servers, counters and map.
func (d *Driver) look(ctx context.Context) (state, error) {
	commands := []string{"show servers state", "show stat", "show table"}
	if !d.config.Weighs() {
		commands = append(commands, "show map "+d.config.Map)
	}
	said, err := d.ask(ctx, commands...)
	if err != nil {
		return state{}, err
	}
	s := state{backends: map[string]counts{}}
	if s.raw, err = parseState(said); err != nil {
		return state{}, err
	}
	figures, err := parseStat(said)
	if err != nil {
		return state{}, err
	}
	at := map[string]int{}
	for _, row := range s.raw.rows {
		v := server{
			backend: s.raw.text(row, "be_name"), name: s.raw.text(row, "srv_name"),
			weight:  int(s.raw.number(row, "srv_uweight")),
			admin:   int(s.raw.number(row, "srv_admin_state")),
			address: net.JoinHostPort(s.raw.text(row, "srv_addr"), s.raw.text(row, "srv_port")),
		}
		if v.backend == d.config.Backends[0] || v.backend == d.config.Backends[1] {
			at[v.path()] = len(s.servers)
			s.servers = append(s.servers, v)
		}
		if v.backend == d.config.Backends[0]+doorSuffix || v.backend == d.config.Backends[1]+doorSuffix {
			s.doors = append(s.doors, v)
		}
	}
	for _, row := range figures.rows {
		backend, name := figures.text(row, "pxname"), figures.text(row, "svname")
		c := counts{
			sessions: figures.number(row, "stot"), open: figures.number(row, "scur"),
			queued:  figures.number(row, "qcur"),
			connect: figures.number(row, "econ"), response: figures.number(row, "eresp"),
			left: figures.number(row, "cli_abrt"), average: figures.number(row, "rtime"),
		}
		for class := 1; class < len(c.status); class++ {
			c.status[class] = figures.number(row, fmt.Sprintf("hrsp_%dxx", class))
		}
		if n, ok := at[backend+"/"+name]; ok {
			s.servers[n].counts, s.servers[n].status = c, figures.text(row, "status")
			s.sticky = s.sticky || figures.text(row, "cookie") != ""
			s.servers[n].rise = int(figures.number(row, "check_rise"))
			s.servers[n].said = strings.TrimSpace(strings.Trim(cmp.Or(figures.text(row, "check_desc"),
				figures.text(row, "check_status")), "* ") + " " + figures.text(row, "last_chk"))
		}
		if name == "BACKEND" {
			s.backends[backend] = c
			s.sticky = s.sticky || slices.Contains(d.config.Backends[:], backend) && figures.text(row, "cookie") != ""
		}
	}
	for line := range strings.Lines(said) {
		name, found := strings.CutPrefix(line, "# table: ")
		name, _, _ = strings.Cut(name, ",")
		s.sticky = s.sticky || found && slices.Contains(d.config.Backends[:], name)
	}
	for _, backend := range d.config.Backends {
		if _, ok := s.backends[backend]; !ok {
			return state{}, fmt.Errorf("%w: HAProxy has no backend %q", front.ErrRefused, backend)
		}
	}
	if !d.config.Weighs() {
		err = s.readMap(said, d.config.MapKey, d.orderKey(), d.termKey(), d.doorKey())
	}
	return s, err
}

// readMap finds the share, the order of going home and the spare side's own door in the answer of "show map", whose
// lines are an address in memory, the key and the value.
func (s *state) readMap(said, key, orderKey, termKey, doorKey string) error {
	if strings.Contains(said, "Unknown map identifier") {
		return fmt.Errorf("%w: HAProxy has no such map: name the file as its configuration does", front.ErrRefused)
	}
	var term uint64
	defer func() { s.order.Term = term }()
	for line := range strings.Lines(said) {
		e, ok := entryOf(line)
		if !ok {
			continue
		}
		s.entries = append(s.entries, e)
		switch e[0] {
		case key:
			n, err := strconv.Atoi(e[1])
			if err != nil || n < 0 || n > 10_000 {
				return fmt.Errorf("%w: the map says %q for %s, which is no share in basis points, 0 to 10000",
					front.ErrRefused, e[1], key)
			}
			s.share, s.inMap = n, true
		case orderKey:
			s.order = decode(e[1])
		case termKey:
			term, _ = strconv.ParseUint(e[1], 10, 64) // damaged, it is as if there were none
		}
		if secret, ok := strings.CutPrefix(e[0], doorKey); ok {
			s.spare.Secret = secret
			s.spare.Side, _ = split.ParseSide(e[1])
		}
	}
	return nil
}

// orderKey is the map's key whose value is the order of going home.
func (d *Driver) orderKey() string { return d.config.MapKey + homeSuffix }

// termKey is the map's key whose value is the term.
func (d *Driver) termKey() string { return d.config.MapKey + termSuffix }

// What the keys of a service's order and term end with.
const (
	homeSuffix = ".home"
	termSuffix = ".term"
)

// encode is an order of going home as a value of a map, which has no space in it:
// generation, side, seconds since 1970, who and why.
func encode(o reading.Order) string {
	const most = 200
	why := o.Why[:min(len(o.Why), most)]
	text := fmt.Sprintf("%d,%v,%d,%s,%s", o.Generation, o.Side, o.At.Unix(), url.QueryEscape(o.By),
		url.QueryEscape(strings.ToValidUTF8(why, "")))
	if o.Closed {
		text += "," + closes
	}
	return text
}

// closes is the last field of an order that closes the other side.
const closes = "closed"

// decode reads what encode writes; what cannot be read as that is no order.
func decode(text string) reading.Order {
	text, closed := strings.CutSuffix(text, ","+closes)
	f := strings.Split(text, ",")
	if len(f) != 5 {
		return reading.Order{}
	}
	o := reading.Order{Closed: closed}
	var seconds int64
	var err [5]error
	o.Generation, err[0] = strconv.ParseUint(f[0], 10, 63)
	o.Side, err[1] = split.ParseSide(f[1])
	seconds, err[2] = strconv.ParseInt(f[2], 10, 64)
	o.By, err[3] = url.QueryUnescape(f[3])
	o.Why, err[4] = url.QueryUnescape(f[4])
	if errors.Join(err[:]...) != nil {
		return reading.Order{}
	}
	o.At = time.Unix(seconds, 0).UTC()
	return o
}

// orderEntry is the command that puts an order into the map.
func (d *Driver) orderEntry(s state, o reading.Order) string {
	verb := "add"
	if s.order.Generation > 0 {
		verb = "set"
	}
	return fmt.Sprintf("%s map %s %s %s", verb, d.config.Map, d.orderKey(), encode(o))
}

// secretKey is the map's key of the spare side's own door.
var secretKey = regexp.MustCompile(regexp.QuoteMeta(doorSuffix) + `\.[A-Z2-7]+`)
