#!/bin/sh
# The Fidelitas probe: copies what this host says about elevated rights and prints it as one tar stream.
#
#   sh probe.sh > host.tar                the running host
#   sh probe.sh --root DIR > host.tar     a mounted image or a chroot: only files below DIR are read
#
#   --one-file-system                     search the file system of the root folder alone for setuid files and capabilities
#   --no-file-scan                        do not search for them
#   --whole-logs                          copy all lines of logs, not only those that concern privilege
#   --no-logs                             copy no logs
#   --deadline SECONDS                    stop reading after this time and print what was read by then (default: 1800)
#
# It needs the base system: sh, awk, cat, cp, cut, date, find, grep, head, id, ls, mkdir, mktemp, mv, readlink, rm, sed, sleep, sort, tail, tar, tr,
# uname, wc, xargs, and stat where find has no -printf.  It uses setpriv, chroot or start-stop-daemon, setsid, sha256sum, getfacl, getfattr, od,
# gzip and journalctl where there are any.
#
# It runs as root among accounts that may be hostile.  What it promises (docs/security.md has the whole list):
#   - Below a folder that an unprivileged account can write, it reads with the rights of that account and no others.
#   - It creates nothing outside one private folder, which it removes; no name that it reads becomes a path there.
#   - Everything is limited in size, number and time; what was cut is listed as a gap.
#   - It judges nothing.  Password hashes are reduced to their method, other secrets are masked, before anything leaves the host.
# The format of what it prints is described in docs/evidence-format.md.
# Functions are started by name and in subshells; expressions of other tools stand in single quotes; fields that are not needed are read.
# shellcheck disable=SC1003,SC2016,SC2030,SC2031,SC2034,SC2317
set -uf
LC_ALL=C
PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
unset ENV BASH_ENV CDPATH TAR_OPTIONS GZIP XZ_OPT XZ_DEFAULTS ZSTD_CLEVEL POSIXLY_CORRECT GREP_OPTIONS 2>/dev/null
umask 077

PROBE_VERSION=4
# An account file larger than this is a gap: the largest honest ones (half a million accounts) are some 40 MB.
FILE_LIMIT=67108864
# A policy is written by hand, or by a program: a hundred thousand lines are 6 MB.
POLICY_LIMIT=16777216
# What may be copied of one account that is not root, together.
ACCOUNT_LIMIT=8388608
ACCOUNT_FILES=1000
# What may be copied of all files together, logs left out.
TOTAL_LIMIT=1073741824
# sudo stops at 128 levels of includes; a policy of more than 4096 files is an attack or an accident.
DEPTH_LIMIT=128
FILES_LIMIT=4096

say() { printf 'probe: %s\n' "$1" >&2; }

for tool in awk cat cp cut date find grep head id ls mkdir mktemp mv readlink rm sed sleep sort tail tar tr uname wc xargs; do
    command -v "$tool" >/dev/null 2>&1 || { say "there is no $tool, which the probe needs"; exit 3; }
done
root=/
scan=true
one_file_system=false
logs=true
whole_logs=false
deadline=1800
while [ $# -gt 0 ]; do
    case $1 in
        --no-file-scan) scan=false; shift ;;
        --no-logs) logs=false; shift ;;
        --whole-logs) whole_logs=true; shift ;;
        --one-file-system) one_file_system=true; shift ;;
        --root)
            [ $# -ge 2 ] || { say '--root needs a folder'; exit 2; }
            root=${2:-/}
            shift 2 ;;
        --deadline)
            [ $# -ge 2 ] || { say '--deadline needs a number of seconds'; exit 2; }
            deadline=$2
            case $deadline in
                '' | *[!0-9]* | ????????*) say '--deadline needs a number of seconds'; exit 2 ;;
            esac
            shift 2 ;;
        *) say "unknown argument: $1"; exit 2 ;;
    esac
done
case $root in /*) ;; *) root=$PWD/$root ;; esac
base=${TMPDIR:-/tmp}
case $base in /*) ;; *) base=$PWD/$base ;; esac
# Anyone who can rename the private folder could put another in its place.
case $(ls -ldn "$base/." 2>/dev/null) in
    d????????[tT]* | d????-??-*) ;;
    *) say "no temporary folder: $base is missing, or other accounts can rename what is in it"; exit 3 ;;
esac
# From here on every path of the host is relative to its root folder, whatever is mounted or renamed above that.
cd -P -- "$root" 2>/dev/null || { say "not a folder: $root"; exit 2; }
at_root=$(pwd -P)
live=false
[ "$at_root" != / ] || live=true at_root=
me=$(id -u)

worker=
alarm=
work=
# Ends what was started and removes the private folder.
finish() {
    trap '' HUP INT TERM
    [ -z "$worker" ] || end_tree "$worker"
    [ -z "$alarm" ] || end_tree "$alarm"
    [ -z "$work" ] || rm -rf "$work"
}
trap finish EXIT
trap 'exit 143' HUP INT TERM PIPE
# The name is known before the folder is there, so that it is removed whenever a signal comes.
work=$(mktemp -u "$base/fidelitas.XXXXXX")
mkdir "$work" 2>/dev/null || { work=; say 'no temporary folder could be made'; exit 3; }
# No file of the bundle is larger than this, whatever goes wrong.
ulimit -f 4194304 2>/dev/null || :
mkdir "$work/bundle" "$work/bundle/files" "$work/bundle/listings" "$work/bundle/logs" "$work/raw" || exit 3
for name in items gaps states acls walked copied wanted listings logs members; do : > "$work/$name"; done
printf '0\n' > "$work/count"

newline='
'
# Fields of our own records end with this character; a line break in a name stands as the other one.  Names that hold either are gaps.
separator=$(printf '\037')
broken=$(printf '\036')

# gap PATH REASON WEAKENS: something that was wanted and not read, why, and what is not known without it.
gap() {
    gap_path=$1
    case $1 in *"$newline"*) gap_path=$(printf '%s' "$1" | tr '\n' '?') ;; esac
    printf '%s\037%s\037%s\n' "$gap_path" "$2" "${3:-}" >> "$work/gaps"
}

# -- processes: everything that is started can be ended --------------------------------------------------------------------------------

# descendants PID: the processes that PID has started, at any depth, on one line.
descendants() {
    find /proc -maxdepth 1 -name '[0-9]*' 2>/dev/null | awk -v top="$1" '
        {
            file = $0 "/status"
            while ((getline line < file) > 0) if (line ~ /^PPid:/) {
                split(line, part, /[ \t]+/)
                child[part[2]] = child[part[2]] " " substr($0, 7)
                break
            }
            close(file)
        }
        END {
            queue = top
            while (queue != "") {
                count = split(queue, now, " ")
                queue = ""
                for (at = 1; at <= count; at++) if (now[at] in child) { queue = queue child[now[at]]; printf "%s", child[now[at]] }
            }
        }'
}

# end_tree PID: ends a process and all that it has started.  All are stopped first, so that none can start another meanwhile.
end_tree() {
    ended=
    kill -STOP "$1" 2>/dev/null
    for _ in 1 2 3 4 5 6 7 8; do
        below=$(descendants "$1")
        [ "$below" != "$ended" ] || break
        ended=$below
        # shellcheck disable=SC2086 # one word a process
        kill -STOP $ended 2>/dev/null
    done
    # shellcheck disable=SC2086
    kill -KILL "$1" $ended 2>/dev/null
}

# start_alarm SECONDS PID MARK: when the time is over, makes the file MARK and ends PID with all that it has started.
start_alarm() {
    (
        sleep "$1" &
        printf '%s\n' "$!" > "$3.nap"
        wait "$!"
        : > "$3"
        end_tree "$2"
    ) < /dev/null > /dev/null 2>&1 &
    alarm=$!
}
# stop_alarm MARK: ends the alarm and its sleep, unless the time is over; then it waits until all are ended.
stop_alarm() {
    until [ -s "$1.nap" ] || ! kill -0 "$alarm" 2>/dev/null; do :; done
    nap=$alarm
    read -r nap 2>/dev/null < "$1.nap" || :
    [ -e "$1" ] || kill -KILL "$alarm" "$nap" 2>/dev/null
    wait "$alarm" 2>/dev/null
}

# within SECONDS COMMAND...: runs a command, and ends it with all that it has started when the time is over.  Fails then, and only then.  The time
# is kept by `watch`: an alarm for each command would be three processes more.
within() {
    seconds=$1
    shift
    { "$@" <&3 3<&- & } 3<&0
    task=$!
    printf '%s %s\n' "$task" "$seconds" >> "$work/watched"
    wait "$task" 2>/dev/null
    printf '%s over\n' "$task" >> "$work/watched"
    [ ! -e "$work/ended.$task" ]
}
# watch: ends the tasks whose time is over, looking once a second, as long as the private folder is there.
watch() {
    running='' now=0 nap=''
    trap '[ -z "$nap" ] || kill -KILL "$nap" 2>/dev/null; exit 0' TERM
    while [ -d "$work" ]; do
        sleep 1 &
        nap=$!
        wait "$nap"
        now=$((now + 1))
        while read -r task seconds <&4; do
            forget "$task"
            [ "$seconds" = over ] || running="$running $task:$((now + seconds))"
        done
        for late in $running; do
            [ "${late#*:}" -le "$now" ] || continue
            : > "$work/ended.${late%:*}"
            end_tree "${late%:*}"
            forget "${late%:*}"
        done
    done 4< "$work/watched"
}
forget() {
    others=
    for other in $running; do [ "${other%:*}" = "$1" ] || others="$others $other"; done
    running=$others
}

# listing NAME TOOL: makes what is in $work/listing a listing of the bundle, unless it is empty.
listing() {
    [ -s "$work/listing" ] || return 0
    mv "$work/listing" "$work/bundle/listings/$1"
    printf '%s\037%s\n' "$1" "$2" >> "$work/listings"
}
