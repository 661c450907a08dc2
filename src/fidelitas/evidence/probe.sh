#!/bin/sh
# The Fidelitas probe: copies what this host says about elevated rights and prints it as one tar stream.
#
#   sh probe.sh > host.tar                the running host
#   sh probe.sh --root DIR > host.tar     a mounted image or a chroot: only files below DIR are read
#
# It needs the base system (sh, awk, cat, find, grep, id, mkdir, mktemp, mv, readlink, rm, sort, tar, tr, uname, xargs; stat, sha256sum
# and getfacl where there are any).
# It reads; it writes nothing outside a private temporary folder, which it removes.  It judges nothing: what it copies is
# interpreted later, elsewhere.  Password hashes never leave the host: each is replaced by its state and the name of its method.
# What it cannot read it lists as a gap, with the reason.  The format is described in docs/evidence-format.md.
set -u
LC_ALL=C
PATH=/usr/sbin:/usr/bin:/sbin:/bin:$PATH
export LC_ALL PATH
umask 077

PROBE_VERSION=1
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
while [ $# -gt 0 ]; do
    case $1 in
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
: > "$work/found"

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

# Prints "mode uid gid size mtime" of a file, the mode in octal, or nothing.  Links are followed; the caller has resolved them.
state_of() {
    set -- "$1" "$(stat -L -c '%a %u %g %s %Y' "$1" 2>/dev/null)"
    if [ -n "$2" ]; then
        printf '%s' "$2"
    else # no stat(1): ls(1) of POSIX shows all but the time
        # shellcheck disable=SC2012  # one known path; find(1) of POSIX prints no mode
        ls -ldnL "$1" 2>/dev/null | awk 'NR == 1 {
            bits = 0
            for (at = 2; at <= 10; at++) { bits *= 2; if (substr($1, at, 1) ~ /[rwxst]/) bits += 1 }
            if (substr($1, 4, 1) ~ /[sS]/) bits += 2048
            if (substr($1, 7, 1) ~ /[sS]/) bits += 1024
            if (substr($1, 10, 1) ~ /[tT]/) bits += 512
            printf "%o %s %s %s null", bits, $3, $4, $5
        }'
    fi
}

digest_of() {
    if command -v sha256sum >/dev/null 2>&1; then sha256sum < "$1" | awk '{ printf "\"%s\"", $1 }'
    elif command -v shasum >/dev/null 2>&1; then shasum -a 256 < "$1" | awk '{ printf "\"%s\"", $1 }'
    elif command -v openssl >/dev/null 2>&1; then openssl dgst -sha256 -r < "$1" | awk '{ printf "\"%s\"", $1 }'
    else printf 'null'
    fi
}

# Digests that the item being written is to carry, as a member of its JSON object.
digests=

# item KIND PATH: one line of the manifest.  $real is where PATH was found; a copy, if there is one, lies below bundle/files.
item() {
    item_kind=$1
    item_path=$2
    item_more=
    if [ "$item_kind" != absent ]; then
        item_state=$(state_of "$root${real:-/}")
        if [ -n "$item_state" ]; then
            item_more=$(printf '%s' "$item_state" |
                awk '{ printf ", \"mode\": \"%s\", \"uid\": %s, \"gid\": %s, \"size\": %s, \"mtime\": %s", $1, $2, $3, $4, $5 }')
        fi
        [ "${real:-/}" = "$item_path" ] || item_more="$item_more, \"real\": $(json_string "${real:-/}")"
    fi
    if [ "$item_kind" = file ] && [ -f "$work/bundle/files$item_path" ]; then
        item_more="$item_more, \"member\": $(json_string "files$item_path"), \"sha256\": $(digest_of "$work/bundle/files$item_path")"
    fi
    printf '{"path": %s, "kind": "%s"%s%s}\n' "$(json_string "$item_path")" "$item_kind" "$item_more" "$digests" >> "$work/items"
    if [ "$item_kind" != absent ]; then printf '%s\n' "${real#/}" >> "$work/found"; fi
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
    [ ! -d "$work/seen/$1$2/.fidelitas-seen" ] || return 1
    mkdir -p "$work/seen/$1$2/.fidelitas-seen" 2>/dev/null
    return 0
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

# take PATH FILTER: copies a file through a filter and records it, or records why not.  Returns 0 if there is a copy.
take() {
    first_visit file "$1" || return 1
    folders "$1"
    resolve "$1" || { gap "$1" 'too many symbolic links'; return 1; }
    found=$root$real
    if [ ! -e "$found" ]; then absent_or_gap "$1"; return 1; fi
    if [ -d "$found" ]; then item folder "$1"; gap "$1" 'is a folder where a file was expected'; return 1; fi
    if [ ! -f "$found" ]; then item other "$1"; gap "$1" 'is not a regular file'; return 1; fi
    if [ ! -r "$found" ]; then item file "$1"; gap "$1" 'permission denied'; return 1; fi
    take_state=$(state_of "$found")
    # shellcheck disable=SC2086  # five numbers
    set -- "$1" "$2" $take_state
    if [ "${6:-0}" -gt "$limit" ]; then
        item file "$1"
        gap "$1" "is larger than $limit bytes"
        return 1
    fi
    copy=$work/bundle/files$1
    mkdir -p "${copy%/*}"
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

# Replaces the second field of account files.  What is kept: nothing at all (empty), x (passwd: see the shadow file), or in braces
# the state (usable, locked, none) and the method of crypt(5).
redacted() {
    awk -v shadowed="$1" '
    function method(hash) {
        if (hash ~ /^\$1\$/) return "md5"
        if (hash ~ /^\$2[abxy]?\$/) return "bcrypt"
        if (hash ~ /^\$5\$/) return "sha256"
        if (hash ~ /^\$6\$/) return "sha512"
        if (hash ~ /^\$7\$/) return "scrypt"
        if (hash ~ /^\$y\$/) return "yescrypt"
        if (hash ~ /^\$gy\$/) return "gost-yescrypt"
        if (hash ~ /^\$md5/) return "sunmd5"
        if (hash ~ /^\$3\$/) return "nt"
        if (hash ~ /^\$/) return "unknown"
        if (length(hash) == 13 && hash !~ /[^.\/0-9A-Za-z]/) return "des"
        if (length(hash) == 20 && hash ~ /^_/ && substr(hash, 2) !~ /[^.\/0-9A-Za-z]/) return "bsdi"
        return ""
    }
    function state(text,   locked, name) {
        if (text == "" || (shadowed == "x" && text == "x")) return text
        locked = 0
        while (substr(text, 1, 1) == "!") { locked = 1; text = substr(text, 2) }
        name = method(text)
        if (locked) return name == "" ? "{locked}" : "{locked " name "}"
        return name == "" ? "{none}" : "{usable " name "}"
    }
    {
        first = index($0, ":")
        if (first == 0) { print ($0 ~ /^[+-]?$/ ? $0 : "{malformed}"); next }
        rest = substr($0, first + 1)
        second = index(rest, ":")
        tail = second == 0 ? "" : substr(rest, second)
        if (second > 0) rest = substr(rest, 1, second - 1)
        print substr($0, 1, first) state(rest) tail
    }'
}
redacted_passwd() { redacted x; }
redacted_shadow() { redacted ''; }

# The include directives of a policy file: "f PATH" or "d PATH" a line, quotes and escapes undone (sudoers(5), Including other files).
includes_of() {
    awk -v host="$short_name" '
    {
        line = $0
        sub(/\r$/, "", line)
        if (line ~ /^#include(dir)?[ \t]/) sub(/^#include/, "", line)
        else if (line ~ /^[ \t]*@include(dir)?([ \t"]|$)/) sub(/^[ \t]*@include/, "", line)
        else next
        kind = "f"
        if (substr(line, 1, 3) == "dir") { kind = "d"; line = substr(line, 4) }
        sub(/^[ \t]+/, "", line)
        path = ""
        quoted = substr(line, 1, 1) == "\""
        for (at = quoted ? 2 : 1; at <= length(line); at++) {
            one = substr(line, at, 1)
            if (quoted && one == "\"") break
            if (!quoted && (one == " " || one == "\t")) break
            if (one == "\\" && (!quoted || substr(line, at + 1, 1) == "\"")) { at++; one = substr(line, at, 1) }
            else if (substr(line, at, 2) == "%h") { at++; one = host }
            path = path one
        }
        if (path != "") print kind " " path
    }' "$1"
}

policies=0
# policy PATH DEPTH: a policy file and everything that it includes.
policy() {
    policies=$((policies + 1))
    [ "$policies" -le "$FILES_LIMIT" ] || { gap "$1" "more than $FILES_LIMIT policy files"; return 0; }
    [ "$2" -le "$DEPTH_LIMIT" ] || { gap "$1" "more than $DEPTH_LIMIT levels of includes"; return 0; }
    limit=$POLICY_LIMIT
    take "$1" whole || return 0
    includes_of "$work/bundle/files$1" > "$work/includes.$2"
    while IFS= read -r directive; do
        included=${directive#? }
        case $included in
            /*) tidy "$included" ;;
            *) tidy "${1%/*}/$included" ;;
        esac
        case $directive in
            f*) policy "$tidied" $(($2 + 1)) ;;
            *) policy_folder "$tidied" $(($2 + 1)) ;;
        esac
    done < "$work/includes.$2"
}

# policy_folder PATH DEPTH: every regular file of it, also those whose names make sudo pass them over: an auditor wants to see them.
policy_folder() {
    first_visit policies "$1" || return 0
    folders "$1/x"
    resolve "$1" || { gap "$1" 'too many symbolic links'; return 0; }
    inside=$root$real
    if [ ! -e "$inside" ]; then absent_or_gap "$1"; return 0; fi
    if [ ! -d "$inside/" ]; then item other "$1"; gap "$1" 'is not a folder'; return 0; fi
    if [ ! -r "$inside" ] || [ ! -x "$inside" ]; then gap "$1" 'permission denied'; return 0; fi
    for entry in "$inside"/* "$inside"/.[!.]* "$inside"/..?*; do
        if [ -e "$entry" ] || [ -L "$entry" ]; then printf '%s\n' "${entry##*/}"; fi
    done > "$work/names.$2"
    # A name with a line break is read as two names here, neither of which exists: two absent files, and sudo's answer is shown as
    # incomplete rather than wrong.
    while IFS= read -r name; do
        resolve "$1/$name" || { gap "$1/$name" 'too many symbolic links'; continue; }
        if [ -d "$root$real" ]; then item folder "$1/$name"
        elif [ -e "$root$real" ] && [ ! -f "$root$real" ]; then item other "$1/$name"
        else policy "$1/$name" "$2"
        fi
    done < "$work/names.$2"
}

if [ "$live" = true ] && [ -z "$root" ]; then
    host_name=$(uname -n)
    kernel=$(uname -srm)
else
    kernel=
    host_name=
    if resolve /etc/hostname && [ -r "$root$real" ] && [ -f "$root$real" ]; then
        host_name=$(awk '!/^#/ && NF { print $1; exit }' "$root$real")
    fi
fi
short_name=${host_name%%.*}

# The addresses of the interfaces that are up, loopback left out: sudo rules may name networks.  null where they cannot be had.
addresses=null
if [ -n "$kernel" ] && command -v ip >/dev/null 2>&1; then
    addresses=$(ip -o addr show up 2>/dev/null | awk '
        $2 != "lo" && ($3 == "inet" || $3 == "inet6") && $4 ~ /^[0-9a-fA-F.:\/]+$/ { list = list (list == "" ? "" : ", ") "\"" $4 "\"" }
        END { print "[" list "]" }')
fi

limit=$FILE_LIMIT
take /etc/os-release whole || take /usr/lib/os-release whole
take /etc/hostname whole
take /etc/passwd redacted_passwd
take /etc/group redacted_passwd
take /etc/shadow redacted_shadow
take /etc/gshadow redacted_shadow
take /etc/login.defs whole
take /etc/nsswitch.conf whole
take /etc/netgroup whole
sudoers=/etc/sudoers
if take /etc/sudo.conf whole; then # sudo.conf(5): the policy may lie elsewhere
    tidy "$(awk '$1 == "Plugin" { for (at = 4; at <= NF; at++) if ($at ~ /^sudoers_file=/) print substr($at, 14) }' \
        "$work/bundle/files/etc/sudo.conf" | head -n 1)"
    sudoers=${tidied:-$sudoers}
fi
policy "$sudoers" 0

# The algorithms of the digests that the policy asks for (sudoers(5), Digest_Spec).
policy_text() { find "$work/bundle/files" -type f -path '*sudo*' -exec cat {} +; }
algorithms=$(policy_text | grep -v '^[[:space:]]*#' | grep -o 'sha\(224\|256\|384\|512\)[[:space:]]*:' | tr -d ': \t' | sort -u)

# digests_of FILE: sets $digests to those that the policy compares commands with.
digests_of() {
    digests=
    for algorithm in $algorithms; do
        command -v "${algorithm}sum" >/dev/null 2>&1 || continue
        digests="$digests${digests:+, }$("${algorithm}sum" < "$1" 2>/dev/null | awk -v name="$algorithm" '{ printf "\"%s\": \"%s\"", name, $1 }')"
    done
    digests=${digests:+, \"digests\": \{$digests\}}
}

# look PATH: the state of a path and of the folders above it, also where links lead; never its content.
look() {
    first_visit look "$1" || return 0
    folders "$1"
    resolve "$1" || return 0
    found=$root$real
    if [ -d "$found" ]; then item folder "$1"
    elif [ -f "$found" ]; then
        digests_of "$found"
        item file "$1"
        digests=
    elif [ -e "$found" ]; then item other "$1"
    else absent_or_gap "$1"
    fi
    if resolve "$1" && [ -e "$root$real" ]; then folders "$real"; fi
}

# The paths that the policy names, commands above all: who can write one decides what runs as root.  Patterns and escapes are left out.
LOOK_LIMIT=2000
policy_text | awk -v most="$LOOK_LIMIT" '
    /^[ \t]*#/ { next }
    {
        count = split($0, words, /[ \t,=:()!"]+/)
        for (at = 1; at <= count; at++) {
            word = words[at]
            sub(/\/+$/, "", word)
            if (word ~ /^\/[^\\*?[\]]+$/ && word !~ /\/\.\.?(\/|$)/ && !(word in seen) && length(word) < 1024) {
                seen[word]
                print word
                if (++printed >= most) exit
            }
        }
    }' > "$work/named"
while IFS= read -r named; do look "$named"; done < "$work/named"

# Access control lists, of everything that was looked at.  getfacl(1) escapes what is odd in a name, and passes over what has none.
access_lists() {
    sort -u "$work/found" | awk 'length($0)' | tr '\n' '\0' > "$work/found.0"
    [ -s "$work/found.0" ] || return 0
    if command -v getfacl >/dev/null 2>&1; then
        (cd "${root:-/}" && xargs -0 getfacl -n -s -- < "$work/found.0" 2>/dev/null) > "$work/listing"
        listing access-lists 'getfacl -n -s'
    elif (cd "${root:-/}" && xargs -0 ls -ld -- < "$work/found.0" 2>/dev/null) | awk '$1 ~ /[+]$/ { found = 1 } END { exit !found }'; then
        gap 'access control lists' 'there are some, and there is no getfacl to read them with'
    fi
}

# listing NAME TOOL: makes what lies in $work/listing a listing of the bundle, unless it is empty.
: > "$work/listings"
listing() {
    [ -s "$work/listing" ] || return 0
    mkdir -p "$work/bundle/listings"
    mv "$work/listing" "$work/bundle/listings/$1"
    printf '{"name": "%s", "member": "listings/%s", "sha256": %s, "tool": %s}\n' \
        "$1" "$1" "$(digest_of "$work/bundle/listings/$1")" "$(json_string "$2")" >> "$work/listings"
}

access_lists

# joined FILE: its lines as the members of a JSON list.
joined() { awk 'NR > 1 { print "  " last "," } { last = $0 } END { if (NR) print "  " last }' "$1"; }

{
    printf '{"format": "fidelitas-evidence", "version": 1, "platform": "linux",\n'
    printf ' "subject": %s, "kernel": %s, "live": %s, "probe": %s,\n' \
        "$(json_string "$host_name")" "$(json_string "$kernel")" "$live" "$PROBE_VERSION"
    printf ' "addresses": %s,\n' "$addresses"
    printf ' "taken": "%s", "uid": %s,\n' "$(date -u +%Y-%m-%dT%H:%M:%SZ)" "$(id -u)"
    printf ' "items": [\n'
    joined "$work/items"
    printf ' ],\n "listings": [\n'
    joined "$work/listings"
    printf ' ],\n "gaps": [\n'
    joined "$work/gaps"
    printf ' ]}\n'
} > "$work/bundle/manifest.json"

mkdir -p "$work/bundle/listings"
cd "$work/bundle" && tar -cf - manifest.json files listings
