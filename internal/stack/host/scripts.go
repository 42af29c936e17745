package host

import (
	_ "embed"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/stack"
	"vaiven/internal/world/place/distant"
)

// prelude are the functions that the scripts share.
//
//go:embed script.sh
var prelude string

// The statuses with which scripts end.
const (
	statusFull     = 90 // something could not be written
	statusRuns     = 91 // the instance runs already
	statusNoFolder = 92
	statusNoWord   = 93 // there is no such program
	statusGone     = 94 // the instance does not run
	statusLocked   = 95
	statusNotOurs  = 96 // the folder of the notes is a link, or somebody else's
)

// within begins a script in the folder of the notes, which is the user's own.
func within(dir string) string {
	return fmt.Sprintf(`mask=$(umask)
umask 077
dir=$HOME/.vaiven/%s
full=%d
%s
mkdir -p "$dir" && cd "$dir" || full
for f in "$HOME/.vaiven" "$dir"; do [ -O "$f" ] && [ ! -L "$f" ] || { echo "$f"; exit %d; }; done
chmod 700 "$HOME/.vaiven" "$dir"
`, distant.Quote(dir), statusFull, prelude, statusNotOurs)
}

// alone has a script that starts or stops wait for others that do: one that was cut
// off from here may still be at work there.
func alone() string {
	return fmt.Sprintf(`exec 9>lock || full
command -v flock >/dev/null || exit %[1]d
tries=600
until flock -n 9; do # not every flock waits for a time
	tries=$((tries - 1))
	[ $tries -gt 0 ] || exit %[1]d
	sleep 0.1
done
`, statusLocked)
}

// The marks in front of what the list script says of an instance.
const (
	markNote    = "note "
	markRunning = "running"
	markStray   = "stray "
	markExit    = "exit "
	markOutput  = "output "
	markPort    = "port "
)

// listScript says all there is of the instances whose names begin with a prefix, and on which ports anybody listens.
// With lost, those are noted anew before that run and whose notes are not there, from what their marks say.
func listScript(dir, prefix string, lost bool) string {
	look := ""
	if lost {
		look = "lost " + distant.Quote(prefix) + "\n"
	}
	return within(dir) + look + fmt.Sprintf(`
for n in %s*.note; do
	[ -f "$n" ] && [ ! -L "$n" ] || continue
	i=${n%%.note}
	printf '%s%%s %%s\n' "$i" "$(base64 <"$n" | tr -d '\n')"
	if session "$i" >/dev/null; then
		echo %s
	else
		for p in $(strays "$i" 0); do echo "%s$p"; break; done
	fi
	[ -s "$i.exit" ] && printf '%s%%s\n' "$(head -n 1 "$i.exit")"
	[ -s "$i.log" ] && printf '%s%%s\n' "$(tail -c %d "$i.log" | base64 | tr -d '\n')"
done
for f in /proc/net/tcp /proc/net/tcp6; do
	[ -e $f ] && awk '$4 == "0A" { split($2, a, ":"); print "%s" a[2] }' $f
done
exit 0
`, distant.Quote(prefix), markNote, markRunning, markStray, markExit, markOutput, stack.OutputTail, markPort)
}

// startScript starts one instance and notes it. The note is written before, so
// that a start that is cut short is found again. If the instance runs already, the
// script ends with statusRuns and its note. Where it is started again its output goes on.
func startScript(dir, name, note, record, folder string, command []string, environment map[string]string,
	again bool) string {
	var b strings.Builder
	b.WriteString(within(dir))
	b.WriteString(alone())
	fmt.Fprintf(&b, "i=%s\nif session \"$i\" >/dev/null; then cat \"$i.note\"; exit %d; fi\n", distant.Quote(name),
		statusRuns)
	b.WriteString("clear() { rm -f \"$dir/$i.new\" \"$dir/$i.note\" \"$dir/$i.log\"; }\n")
	output := ">"
	if again {
		output = ">>"
		fmt.Fprintf(&b, "[ -f \"$i.note\" ] && [ -z \"$(strays \"$i\" 0)\" ] || exit %d\n", statusGone)
		b.WriteString("clear() { rm -f \"$dir/$i.new\"; }\n")
	}
	fmt.Fprintf(&b, "rm -f \"$i.pid\" \"$i.exit\"\nprintf %%s %s >\"$i.new\" && [ -s \"$i.new\" ] && : %s\"$i.log\" "+
		"&& mv \"$i.new\" \"$i.note\" || { clear; full; }\n", distant.Quote(note), output)
	fmt.Fprintf(&b, "cd %s || { clear; exit %d; }\n", distant.Name(folder), statusNoFolder)
	words := make([]string, len(command))
	for n, w := range command {
		words[n] = distant.Quote(w)
	}
	fmt.Fprintf(&b, "command -v %s >/dev/null || { clear; exit %d; }\n", words[0], statusNoWord)
	for _, key := range slices.Sorted(maps.Keys(environment)) {
		fmt.Fprintf(&b, "export %s=%s\n", key, distant.Quote(environment[key]))
	}
	fmt.Fprintf(&b, "export VAIVEN_INSTANCE=\"$dir/$i\" %s=%s\numask \"$mask\"\n", stack.Record, distant.Quote(record))
	fmt.Fprintf(&b, "setsid sh -c %s \"$dir/$i.exit\" %s </dev/null >>\"$dir/$i.log\" 2>&1 9>&- &\n",
		distant.Quote(stack.Guard), strings.Join(words, " "))
	b.WriteString(`p=$!
cd "$dir"
set -- $(stat $p)
[ $# = 4 ] && echo "$p $4 $boot" 2>/dev/null >"$i.pid" # it is found again without
exit 0
`)
	return b.String()
}

// stopScript asks instances to stop, makes those that have not after the grace
// time, and removes what was noted of those that are gone. It says which resisted.
func stopScript(dir string, names []string, grace time.Duration) string {
	var b strings.Builder
	b.WriteString(within(dir))
	words := make([]string, len(names))
	for n, name := range names {
		words[n] = distant.Quote(name)
	}
	list := strings.Join(words, " ")
	b.WriteString(alone())
	fmt.Fprintf(&b, `
# send SIGNAL NAME: to all of an instance.
send() {
	p=$(session "$2") && kill "-$1" "-$p" 2>/dev/null
	for p in $(strays "$2" "${p:-0}"); do kill "-$1" "$p" 2>/dev/null; done
}
# alive NAME: whether anything of an instance runs.
alive() { session "$1" >/dev/null || [ -n "$(strays "$1" 0)" ]; }

for i in %[1]s; do send TERM "$i"; done
tries=%[2]d
while [ $tries -gt 0 ]; do
	left=
	for i in %[1]s; do session "$i" >/dev/null && left=y; done
	[ -n "$left" ] || for i in %[1]s; do [ -n "$(strays "$i" 0)" ] && left=y; done
	[ -z "$left" ] && break
	sleep 0.1
	tries=$((tries - 1))
done
for i in %[1]s; do
	tries=50
	while alive "$i" && [ $tries -gt 0 ]; do
		send KILL "$i"
		sleep 0.1
		tries=$((tries - 1))
	done
	if [ $tries = 0 ]; then echo "$i"; else rm -f "$i.pid" "$i.exit" "$i.exit.new" "$i.new" "$i.log" "$i.log".[0-9]* "$i.note"; fi
done
exit 0
`, list, max(grace.Milliseconds()/100, 1))
	return b.String()
}

// rotateScript puts output aside that has become larger than so many bytes, as package rotate
// does here.
func rotateScript(dir, prefix string, o plan.Output) string {
	return within(dir) + fmt.Sprintf(`
lost=
for f in %s*.log; do
	[ -f "$f" ] && [ ! -L "$f" ] && [ "$(wc -c <"$f")" -gt %d ] || continue
	n=%d
	if [ $n -gt 0 ] && tail -c %[2]d "$f" >"$f.new" 2>/dev/null; then
		while [ $n -gt 1 ]; do
			[ -f "$f.$((n - 1))" ] && mv "$f.$((n - 1))" "$f.$n"
			n=$((n - 1))
		done
		mv "$f.new" "$f.1"
	elif [ $n -gt 0 ]; then
		rm -f "$f.new"
		lost=yes
	fi
	: >"$f"
done
[ -z "$lost" ] || full
exit 0
`, distant.Quote(prefix), o.Size, o.Keep)
}

// describeScript says what an instance's program runs with: three files, one a
// line.
func describeScript(dir, name string) string {
	return within(dir) + fmt.Sprintf(`
p=$(session %s) || exit %d
for f in /proc/[0-9]*/stat; do
	s=$(cat "$f" 2>/dev/null) || continue
	set -- ${s##*) }
	if [ "$2" = "$p" ] && [ "$3" = "$p" ]; then f=${f#/proc/}; p=${f%%/stat}; break; fi
done
for f in cmdline environ limits; do base64 <"/proc/$p/$f" | tr -d '\n'; echo; done
`, distant.Quote(name), statusGone)
}
