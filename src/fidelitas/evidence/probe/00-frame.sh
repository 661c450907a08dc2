#!/bin/sh
# The Fidelitas probe: copies what this host says about elevated rights and prints it as one tar stream.
#
#   sh probe.sh > host.tar                the running host
#   sh probe.sh --root DIR > host.tar     a mounted image or a chroot: only files below DIR are read
#
#   --one-file-system                     look for setuid files and capabilities on the file system of the root folder alone
#   --no-file-scan                        do not look for them at all
#   --whole-logs                          copy all lines of logs, not those alone that concern privilege
#   --no-logs                             copy none
#
# It needs the base system (sh, awk, cat, cut, find, grep, head, id, mkdir, mktemp, mv, readlink, rm, sed, sort, tail, tar, tr, uname,
# xargs; stat, sha256sum, getfacl, gzip and journalctl where there are any).
# It reads; it writes nothing outside a private temporary folder, which it removes.  It judges nothing: what it copies is
# interpreted later, elsewhere.  Password hashes never leave the host: each is replaced by its state and the name of its method.
# What it cannot read it lists as a gap, with the reason.  The format is described in docs/evidence-format.md.
set -u
LC_ALL=C
PATH=/usr/sbin:/usr/bin:/sbin:/bin:$PATH
export LC_ALL PATH
umask 077

PROBE_VERSION=3
# An account file larger than this is listed as a gap: the largest honest ones (half a million accounts) are some 40 MB.
FILE_LIMIT=67108864
# A policy is written by hand, or by a program of somebody who then cannot read it any more: a hundred thousand lines are 6 MB.
POLICY_LIMIT=16777216
# sudo gives up at 128 levels of includes; a policy of more than 4096 files is an attack or an accident.
DEPTH_LIMIT=128
FILES_LIMIT=4096

say() { printf 'probe: %s\n' "$1" >&2; }

root=
live=true
scan=true
one_file_system=false
logs=true
whole_logs=false
while [ $# -gt 0 ]; do
    case $1 in
        --no-file-scan) scan=false; shift ;;
        --no-logs) logs=false; shift ;;
        --whole-logs) whole_logs=true; shift ;;
        --one-file-system) one_file_system=true; shift ;;
        --root)
            [ $# -ge 2 ] || { say '--root needs a folder'; exit 2; }
            root=${2%/}
            live=false
            shift 2 ;;
        *) say "unknown argument: $1"; exit 2 ;;
    esac
done
[ -d "$root/" ] || { say "not a folder: $root"; exit 2; }
[ -n "$root" ] || live=true # --root / is this host

work=$(mktemp -d "${TMPDIR:-/tmp}/fidelitas.XXXXXX") || { say 'no temporary folder could be made'; exit 3; }
trap 'rm -rf "$work"' EXIT
trap 'exit 3' HUP INT TERM
mkdir -p "$work/bundle/files" "$work/seen" || exit 3
: > "$work/items"
: > "$work/gaps"
newline='
'
separator=$(printf '\001')

# A JSON string of the value of the environment variable V.  ENVIRON is used because awk leaves its backslashes alone.
# Bytes above 127 are passed on as they are: paths on this host are bytes, and need not be UTF-8.
json_string() {
    V=$1 awk 'BEGIN {
        for (code = 1; code < 32; code++) control[sprintf("%c", code)] = sprintf("\\u%04x", code)
        text = ENVIRON["V"]; out = ""
        for (at = 1; at <= length(text); at++) {
            one = substr(text, at, 1)
            if (one == "\\" || one == "\"") out = out "\\" one
            else if (one in control) out = out control[one]
            else out = out one
        }
        printf "\"%s\"", out
    }'
}

gap() { # PATH REASON
    printf '{"path": %s, "reason": %s}\n' "$(json_string "$1")" "$(json_string "$2")" >> "$work/gaps"
}

# item KIND PATH: notes that PATH was looked at.  $real is where it was found; a copy, if there is one, lies below bundle/files.
# States and digests are added for all at once, at the end: a process for each would take longer than all the rest.
digests=
item() {
    case $2$real in
        *"$newline"* | *"$separator"*) gap "$2" 'its name holds a line break' ;;
        *) printf '%s\001%s\001%s\001%s\n' "$1" "$2" "${real:-/}" "$digests" >> "$work/items" ;;
    esac
}

# resolve PATH: sets $real to the path that PATH means once every symbolic link is followed as a process confined to $root would
# follow it: an absolute link starts again at $root, and ".." never leaves it.
resolve() {
    rest=$1
    real=
    hops=0
    while [ -n "$rest" ]; do
        part=${rest%%/*}
        case $rest in
            */*) rest=${rest#*/} ;;
            *) rest= ;;
        esac
        case $part in
            '' | .) continue ;;
            ..) real=${real%/*}; continue ;;
        esac
        if [ -L "$root$real/$part" ]; then
            hops=$((hops + 1))
            [ "$hops" -le 40 ] || return 1
            target=$(readlink "$root$real/$part" && printf x) || return 1
            target=${target%?x}
            case $target in /*) real= ;; esac
            rest=$target/$rest
        else
            real=$real/$part
        fi
    done
    return 0
}

# tidy PATH: sets $tidied to PATH without ".", ".." and doubled slashes.  Every path from a policy goes through here before anything
# is made of it: no name in evidence may reach out of the temporary folder.
tidy() {
    rest=$1
    tidied=
    while [ -n "$rest" ]; do
        part=${rest%%/*}
        case $rest in
            */*) rest=${rest#*/} ;;
            *) rest= ;;
        esac
        case $part in
            '' | .) ;;
            ..) tidied=${tidied%/*} ;;
            *) tidied=$tidied/$part ;;
        esac
    done
}

# first_visit NAMESPACE PATH: whether PATH was not met before.
first_visit() {
    [ ! -e "$work/seen/$1$2/.seen" ] || return 1
    if [ ! -d "$work/seen/$1$2" ]; then mkdir -p "$work/seen/$1$2" 2>/dev/null; fi
    : > "$work/seen/$1$2/.seen"
}

# Why a path that is not there is not there: absent is a fact, unsearchable is a gap.
absent_or_gap() {
    parent=${real%/*}
    while [ -n "$parent" ] && [ ! -e "$root$parent" ]; do parent=${parent%/*}; done
    if [ -d "$root$parent/" ] && [ ! -x "$root$parent/" ]; then gap "$1" 'permission denied'
    else item absent "$1"
    fi
}

# folders PATH: the state of every folder above PATH, since whoever writes to one decides what lies in it.
folders() {
    above=${1%/*}
    while :; do
        first_visit folder "$above" || return 0
        if resolve "$above" && [ -d "$root$real/" ]; then item folder "${above:-/}"; fi
        [ -n "$above" ] || return 0
        above=${above%/*}
    done
}

# Whether the size of the next file to copy is known to be within the limit.
sized=

# take PATH FILTER: copies a file through a filter and records it, or records why not.  Returns 0 if there is a copy.
take() {
    [ ! -e "$work/bundle/files$1" ] && first_visit "file${1%/*}/" "${1##*/}" || return 1
    folders "$1"
    resolve "$1" || { gap "$1" 'too many symbolic links'; return 1; }
    found=$root$real
    if [ ! -e "$found" ]; then absent_or_gap "$1"; return 1; fi
    if [ -d "$found" ]; then item folder "$1"; gap "$1" 'is a folder where a file was expected'; return 1; fi
    if [ ! -f "$found" ]; then item other "$1"; gap "$1" 'is not a regular file'; return 1; fi
    if [ ! -r "$found" ]; then item file "$1"; gap "$1" 'permission denied'; return 1; fi
    if [ -z "$sized" ] && [ -n "$(find "$found" -prune -size "+${limit}c" 2>/dev/null)" ]; then
        item file "$1"
        gap "$1" "is larger than $limit bytes"
        return 1
    fi
    copy=$work/bundle/files$1
    [ -d "${copy%/*}" ] || mkdir -p "${copy%/*}"
    if { "$2" < "$found" > "$copy"; } 2>/dev/null; then
        item file "$1"
        return 0
    fi
    rm -f "$copy"
    if [ -e "$found" ]; then item file "$1"; gap "$1" 'could not be read'
    else gap "$1" 'vanished while it was read'
    fi
    return 1
}

whole() { cat; }

# listing NAME TOOL: makes what lies in $work/listing a listing of the bundle, unless it is empty.
: > "$work/listings"
mkdir -p "$work/bundle/listings" || exit 3
listing() {
    [ -s "$work/listing" ] || return 0
    mv "$work/listing" "$work/bundle/listings/$1"
    printf '%s\001%s\n' "$1" "$2" >> "$work/listings"
}

# take_all FOLDER DEPTH FILTER PATTERN...: every regular file below a folder whose name fits, links followed, at most DEPTH levels down.
MANY=5000
take_all() {
    take_folder=$1 take_depth=$2 take_filter=$3
    shift 3
    folders "$take_folder/x"
    resolve "$take_folder" || return 0
    inside=$root$real
    if [ ! -e "$inside" ]; then absent_or_gap "$take_folder"; return 0; fi
    if [ ! -d "$inside/" ]; then return 0; fi
    if [ ! -r "$inside" ] || [ ! -x "$inside" ]; then gap "$take_folder" 'permission denied'; return 0; fi
    for pattern; do
        (cd "$inside" && find . -maxdepth "$take_depth" ! -type d -name "$pattern" ! -name '*.dpkg-*' ! -name '*~' -size "-${limit}c" 2>/dev/null)
    done | sort -u | head -n "$MANY" > "$work/inside"
    while IFS= read -r name; do
        name=${name#./}
        resolve "$take_folder/$name" || continue
        if [ -f "$root$real" ]; then
            [ -L "$inside/$name" ] || sized=yes
            take "$take_folder/$name" "$take_filter"
            sized=
        elif [ -e "$root$real" ]; then item other "$take_folder/$name" # /dev/null, most of the time: a unit or file switched off
        fi
    done < "$work/inside"
}

algorithms= # of digests that are wanted; known once the policy is read
# look PATH: the state of a path, of what it leads to and of the folders above both; never its content.
look() {
    first_visit look "$1" || return 0
    folders "$1"
    resolve "$1" || return 0
    found=$root$real
    if [ -d "$found" ]; then item folder "$1"
    elif [ -f "$found" ]; then
        [ -z "$algorithms" ] || digests_of "$found"
        item file "$1"
        digests=
    elif [ -e "$found" ]; then item other "$1"
    else absent_or_gap "$1"
    fi
    if [ -e "$found" ] && [ "$real" != "$1" ]; then folders "$real"; fi
}
