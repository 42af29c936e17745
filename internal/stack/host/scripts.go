package host

import (
	_ "embed"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vaiven/internal/stack"
)

// prelude are the functions that the scripts share.
//
//go:embed script.sh
var prelude string

// quote makes one word of the shell out of any text.
func quote(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// within begins a script in the folder of the notes.
func within(dir string) string {
	return fmt.Sprintf("dir=$HOME/.vaiven/%s\nmkdir -p \"$dir\" && cd \"$dir\" || exit 90\nchmod 700 \"$dir\"\n", quote(dir)) + prelude
}

// alone has a script that starts or stops wait for others that do: one that was cut
// off from here may still be at work there.
const alone = "exec 9>lock && flock 9 || exit 95\n"

// The marks in front of what the list script says of an instance.
const (
	markNote    = "note "
	markRunning = "running"
	markExit    = "exit "
	markOutput  = "output "
	markPort    = "port "
)

// listScript says all there is of the instances whose names begin with a prefix,
// and on which ports anybody listens.
func listScript(dir, prefix string) string {
	return within(dir) + fmt.Sprintf(`
for n in %s*.note; do
	[ -e "$n" ] || continue
	i=${n%%.note}
	printf '%s%%s\n' "$(base64 <"$n" | tr -d '\n')"
	if session "$i" >/dev/null; then echo %s; fi
	[ -s "$i.exit" ] && printf '%s%%s\n' "$(cat "$i.exit")"
	[ -s "$i.log" ] && printf '%s%%s\n' "$(tail -c 8192 "$i.log" | base64 | tr -d '\n')"
done
for f in /proc/net/tcp /proc/net/tcp6; do
	[ -e $f ] && awk '$4 == "0A" { split($2, a, ":"); print "%s" a[2] }' $f
done
exit 0
`, quote(prefix), markNote, markRunning, markExit, markOutput, markPort)
}

// startScript starts one instance and notes it. The note is written before, so
// that a start that is cut short is found again. If the instance runs already, the
// script ends with 91 and its note.
func startScript(dir, name, note, folder string, command []string, environment map[string]string) string {
	var b strings.Builder
	b.WriteString(within(dir))
	fmt.Fprintf(&b, "%si=%s\nif session \"$i\" >/dev/null; then cat \"$i.note\"; exit 91; fi\n", alone, quote(name))
	fmt.Fprintf(&b, "rm -f \"$i.pid\" \"$i.exit\"\nprintf %%s %s >\"$i.new\" && mv \"$i.new\" \"$i.note\" || exit 90\n", quote(note))
	fmt.Fprintf(&b, "cd %s || { rm -f \"$dir/$i.note\"; exit 92; }\n", folderWord(folder))
	words := make([]string, len(command))
	for n, w := range command {
		words[n] = quote(w)
	}
	fmt.Fprintf(&b, "command -v %s >/dev/null || { rm -f \"$dir/$i.note\"; exit 93; }\n", words[0])
	for _, key := range slices.Sorted(maps.Keys(environment)) {
		fmt.Fprintf(&b, "export %s=%s\n", key, quote(environment[key]))
	}
	b.WriteString("export VAIVEN_INSTANCE=\"$dir/$i\"\n")
	fmt.Fprintf(&b, "setsid sh -c %s \"$dir/$i.exit\" %s </dev/null >\"$dir/$i.log\" 2>&1 9>&- &\n", quote(stack.Guard), strings.Join(words, " "))
	b.WriteString(`p=$!
cd "$dir"
set -- $(stat $p)
[ $# = 3 ] && echo "$p $3 $boot" >"$i.pid"
exit 0
`)
	return b.String()
}

// folderWord is a folder for the shell; one that is not absolute lies below the
// user's own.
func folderWord(folder string) string {
	if strings.HasPrefix(folder, "/") {
		return quote(folder)
	}
	return `"$HOME"/` + quote(folder)
}

// stopScript asks instances to stop, makes those that have not after the grace
// time, and removes what was noted of those that are gone. It says which resisted.
func stopScript(dir string, names []string, grace time.Duration) string {
	var b strings.Builder
	b.WriteString(within(dir))
	words := make([]string, len(names))
	for n, name := range names {
		words[n] = quote(name)
	}
	list := strings.Join(words, " ")
	b.WriteString(alone)
	fmt.Fprintf(&b, "for i in %s; do p=$(session \"$i\") && kill -TERM \"-$p\" 2>/dev/null; done\n", list)
	fmt.Fprintf(&b, "tries=%d\n", max(grace.Milliseconds()/100, 1))
	fmt.Fprintf(&b, `while [ $tries -gt 0 ]; do
	left=
	for i in %s; do session "$i" >/dev/null && left=y; done
	[ -z "$left" ] && break
	sleep 0.1
	tries=$((tries - 1))
done
for i in %[1]s; do p=$(session "$i") && kill -KILL "-$p" 2>/dev/null; done
for i in %[1]s; do
	tries=50
	while session "$i" >/dev/null && [ $tries -gt 0 ]; do sleep 0.1; tries=$((tries - 1)); done
	if session "$i" >/dev/null; then echo "$i"; else rm -f "$i.note" "$i.pid" "$i.exit" "$i.log"; fi
done
exit 0
`, list)
	return b.String()
}

// describeScript says what an instance's program runs with: three files, one a
// line.
func describeScript(dir, name string) string {
	return within(dir) + fmt.Sprintf(`
p=$(session %s) || exit 94
for f in /proc/[0-9]*/stat; do
	s=$(cat "$f" 2>/dev/null) || continue
	set -- ${s##*) }
	if [ "$2" = "$p" ] && [ "$3" = "$p" ]; then f=${f#/proc/}; p=${f%%/stat}; break; fi
done
for f in cmdline environ limits; do base64 <"/proc/$p/$f" | tr -d '\n'; echo; done
`, quote(name))
}
