# What every script begins with. $dir is the folder of the notes, where we are as soon as
# it is there, and $full the status for what cannot be written.
set -u
boot=$(cat /proc/sys/kernel/random/boot_id)

# full: ends the script because something could not be written, and says how much room
# there is where.
full() {
	for f in "$dir" "$HOME"; do
		[ -d "$f" ] && df -Pk "$f" 2>/dev/null | awk 'NR == 2 { print "room " $4 " " $6 }' && break
	done
	exit "$full"
}

# stat PID: state, process group, session and start of a process (proc(5)), nothing if it
# is not there.
stat() {
	s=$(cat "/proc/$1/stat" 2>/dev/null) || return 1
	set -- ${s##*) }
	echo "$1 $3 $4 ${20}"
}

# group PID: whether a process group has a member that has not ended.
group() {
	kill -0 "-$1" 2>/dev/null || return 1
	for f in /proc/[0-9]*/stat; do
		s=$(cat "$f" 2>/dev/null) || continue
		set -- "$1" ${s##*) }
		[ "$4" = "$1" ] && [ "$2" != Z ] && return 0
	done
	return 1
}

# marked NAME: the processes of ours that carry an instance's mark.
marked() {
	grep -zsHo '^VAIVEN_INSTANCE=.*' /proc/[0-9]*/environ 2>/dev/null | tr '\0' '\n' |
		awk -v want="VAIVEN_INSTANCE=$dir/$1" '{ at = index($0, ":"); if (substr($0, at + 1) == want) { split($0, p, "/"); print p[3] } }'
}

# session NAME: prints the process id of an instance's session if it runs. One whose
# start was not noted to its end is found by its mark. A note is believed of a process
# that has the mark.
session() {
	if [ -s "$1.pid" ] && [ ! -L "$1.pid" ]; then
		read -r pid start when <"$1.pid"
	else
		pid= start= when=
		for p in $(marked "$1"); do
			set -- "$1" $(stat "$p")
			[ $# = 5 ] && [ "$2" != Z ] || continue
			g=$3
			set -- "$1" $(stat "$g")
			[ $# = 5 ] || continue
			pid=$g start=$5 when=$boot
			echo "$pid $start $when" 2>/dev/null >"$1.pid" # it is found again without
			break
		done
	fi
	[ -n "$pid" ] && [ "$when" = "$boot" ] || return 1
	name=$1
	set -- $(stat "$pid")
	if [ $# = 4 ] && [ "$1" != Z ]; then
		[ "$4" = "$start" ] || return 1
		tr '\0' '\n' 2>/dev/null <"/proc/$pid/environ" | grep -qxF "VAIVEN_INSTANCE=$dir/$name" || return 1
	else
		group "$pid" || return 1 # its first process is gone, but not all
	fi
	echo "$pid"
}

# strays NAME PID: processes of an instance that are not in its session, because it put
# itself into the background.
strays() {
	for p in $(marked "$1"); do
		set -- "$1" "$2" $(stat "$p")
		[ $# = 6 ] && [ "$3" != Z ] && [ "$5" != "$2" ] && echo "$p"
	done
	:
}

# lost PREFIX: notes instances anew that run and whose notes are not there, from what their marks say.
lost() {
	grep -zsHo '^VAIVEN_INSTANCE=.*' /proc/[0-9]*/environ 2>/dev/null | tr '\0' '\n' |
		awk -v want="VAIVEN_INSTANCE=$dir/$1" '{ at = index($0, ":"); if (index(substr($0, at + 1), want) == 1) { split($0, p, "/"); print p[3], substr($0, at + length("VAIVEN_INSTANCE=") + 1) } }' |
		while read -r pid mark; do
			i=${mark#"$dir/"}
			case $i in */*) continue ;; esac
			[ -e "$i.note" ] && continue
			r=$(tr '\0' '\n' 2>/dev/null <"/proc/$pid/environ" | sed -n 's/^VAIVEN_RECORD=//p')
			[ -n "$r" ] || r=lost
			printf %s "$r" >"$i.lost" 2>/dev/null && mv "$i.lost" "$i.note"
			[ -e "/proc/$pid" ] || rm -f "$i.note" # somebody has stopped it meanwhile
		done
}
