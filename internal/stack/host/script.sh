# What every script begins with. $dir is the folder of the notes.
set -u
boot=$(cat /proc/sys/kernel/random/boot_id)

# stat PID: state, process group and start of a process (proc(5)), nothing if it
# is not there.
stat() {
	s=$(cat "/proc/$1/stat" 2>/dev/null) || return 1
	set -- ${s##*) }
	echo "$1 $3 ${20}"
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

# session NAME: prints the process id of an instance's session if it runs. One whose
# start was not noted to its end is found by its marker.
session() {
	if [ ! -s "$1.pid" ]; then
		for e in /proc/[0-9]*/environ; do
			tr '\0' '\n' <"$e" 2>/dev/null | grep -qxF "VAIVEN_INSTANCE=$dir/$1" || continue
			p=${e%/environ}
			set -- "$1" $(stat "${p#/proc/}")
			[ $# = 4 ] || continue
			g=$3
			set -- "$1" $(stat "$g")
			[ $# = 4 ] || continue
			echo "$g $4 $boot" >"$1.pid"
			break
		done
	fi
	[ -s "$1.pid" ] || return 1
	read -r pid start when <"$1.pid"
	[ "$when" = "$boot" ] || return 1
	set -- $(stat "$pid")
	if [ $# = 3 ] && [ "$1" != Z ]; then
		[ "$3" = "$start" ] || return 1
	else
		group "$pid" || return 1 # its first process is gone, but not all
	fi
	echo "$pid"
}
