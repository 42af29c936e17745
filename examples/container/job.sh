#!/bin/sh
# The same without an engine: the program in a root of its own, with the plan and the state folder of this machine. It
# ends with vaiven's status.
#
#	job.sh USER:GROUP PLAN STATE WORDS...
set -e
who=$1 plan=$2 state=$3
shift 3
root=$(mktemp -d)
trap 'umount "$root/proc" "$root$state" "$root$(dirname "$plan")" && rm -rf "$root"' EXIT
chmod 755 "$root"
mkdir -p "$root/etc" "$root/tmp" "$root/proc" "$root$(dirname "$plan")" "$root$state"
chmod 1777 "$root/tmp"
cp "$(command -v vaiven)" "$root/vaiven"
cp /etc/passwd /etc/group "$root/etc"
mount -t proc proc "$root/proc"
mount --bind "$(dirname "$plan")" "$root$(dirname "$plan")"
mount --bind "$state" "$root$state"
chroot --userspec="$who" "$root" /vaiven "$@"
