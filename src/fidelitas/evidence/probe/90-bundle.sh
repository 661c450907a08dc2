# -- the bundle -------------------------------------------------------------------------------------------------------------------------

# Access control lists, of everything that was looked at.  getfacl(1) escapes what is odd in a name, and skips what has none.
read_access_lists() {
    awk -F '\037' '$1 != "absent" { sub(/^\//, "", $3); if ($3 != "") print $3 }' "$work/items" | sort -u | tr '\n' '\0' > "$work/found.0"
    if command -v getfacl >/dev/null 2>&1; then
        lists_of() { xargs -0 getfacl -n -s -- < "$work/found.0" 2>/dev/null; }
        within 120 lists_of > "$work/listing" || gap 'access control lists' 'were not read within 120 seconds' 'who else can write a file'
        listing access-lists 'getfacl -n -s'
    elif xargs -0 ls -ld -- < "$work/found.0" 2>/dev/null | awk '$1 ~ /[+]$/ { found = 1 } END { exit !found }'; then
        gap 'access control lists' 'there are some, and there is no getfacl to read them with' 'who else can write a file'
    fi
}

# collect: everything, in the order of what matters most, since the deadline may come before the end.
collect() {
    watch < /dev/null > /dev/null 2>&1 &
    watcher=$!
    for phase in read_accounts read_policy read_jobs read_logins read_running read_versions search_files read_open read_hooks read_named read_passwords read_keys read_access_lists read_logs; do
        printf '%s\n' "$phase" > "$work/phase"
        "$phase"
    done
    printf 'complete\n' > "$work/phase"
    kill -TERM "$watcher"
    wait "$watcher" 2>/dev/null
}
phase_gap() {
    read -r phase < "$work/phase" || phase=read_accounts
    [ "$phase" != complete ] || return 0
    case $phase in
        read_accounts | read_policy) weakens='which accounts there are, and what they may do' ;;
        read_jobs) weakens='what root runs, who can log in, which programs make their user root' ;;
        read_logins | read_running) weakens='who can log in, which programs make their user root, who can replace what root runs' ;;
        read_versions | search_files) weakens='which programs make their user root, who can replace what root runs' ;;
        read_open | read_hooks | read_named | read_passwords | read_keys | read_access_lists) weakens='who can replace what root runs, who used privileges' ;;
        *) weakens='who used privileges' ;;
    esac
    gap 'the rest of the host' "$1" "$weakens"
}

# The digests of all members, as "DIGEST  NAME"; the names are our own.
member_digests() {
    (
        cd "$work/bundle" || exit 3
        if command -v sha256sum >/dev/null 2>&1; then find files listings logs -type f -exec sha256sum -- {} +
        elif command -v shasum >/dev/null 2>&1; then find files listings logs -type f -exec shasum -a 256 -- {} +
        elif command -v openssl >/dev/null 2>&1; then find files listings logs -type f -exec openssl dgst -sha256 -r {} +
        else find files listings logs -type f -print | sed 's/^/-  /'
        fi
    ) 2>/dev/null
}

# json WHAT FILE: the lines of FILE as the members of a JSON list of items, listings, logs or gaps; WHAT "text" is one string.
# Bytes above 127 are passed on as they are: paths on this host are bytes, and need not be UTF-8.
json() {
    awk -F '\037' -v what="$1" -v sums="$work/digests" -v asked="$work/command-digests" -v most=20000 '
    function quoted(text,   at, one, out) {
        if (text !~ /["\\\001-\037]/) return "\"" text "\""
        for (at = 1; at <= length(text); at++) {
            one = substr(text, at, 1)
            if (one == "\\" || one == "\"") out = out "\\" one
            else if (one in control) out = out control[one]
            else out = out one
        }
        return "\"" out "\""
    }
    function member(name) {
        if (!(name in digest)) return ""
        return ", \"member\": " quoted(name) (digest[name] == "-" ? "" : ", \"sha256\": \"" digest[name] "\"")
    }
    function number(text) { return text ~ /^-?[0-9]+$/ ? text : "null" }
    BEGIN {
        for (code = 1; code < 32; code++) control[sprintf("%c", code)] = sprintf("\\u%04x", code)
        while ((getline line < sums) > 0) {
            space = index(line, " ")
            digest[substr(line, space + 2)] = substr(line, 1, space - 1)
        }
        while ((getline line < asked) > 0) {
            split(line, part, "\037")
            of[part[1]] = of[part[1]] (of[part[1]] == "" ? "" : ", ") quoted(part[2]) ": " quoted(part[3])
        }
    }
    what == "text" { printf "%s", quoted($0); exit }
    NR > 1 && !(what == "gaps" && NR > most + 1) { print "," }
    what == "gaps" {
        if (NR <= most) printf "  {\"path\": %s, \"reason\": %s%s}", quoted($1), quoted($2), ($3 == "" ? "" : ", \"weakens\": " quoted($3))
        else if (NR == most + 1) printf "  {\"path\": \"gaps\", \"reason\": \"there are more than %d: the rest is not listed\"}", most
        next
    }
    what == "listings" { printf "  {\"name\": %s, \"tool\": %s%s}", quoted($1), quoted($2), member("listings/" $1); next }
    what == "logs" {
        printf "  {\"path\": %s%s, \"lines\": %d, \"kept\": %d, \"begins\": %s, \"ends\": %s}", quoted($1), member($2), $3, $4, quoted($5), quoted($6)
        next
    }
    $1 == "absent" { printf "  {\"path\": %s, \"kind\": \"absent\"}", quoted($2); next }
    {
        printf "  {\"path\": %s, \"kind\": \"%s\", \"mode\": \"%s\", \"uid\": %s, \"gid\": %s, \"size\": %s, \"mtime\": %s%s%s%s}", quoted($2), $1, $4,
            number($5), number($6), number($7), number($8), ($3 == $2 ? "" : ", \"real\": " quoted($3)), ($1 == "file" && $9 != "" ? member("files/" $9) : ""),
            (of[$2] != "" ? ", \"digests\": {" of[$2] "}" : "")
    }
    END { if (NR) print "" }' "$2"
}

# What was looked at more than once is one item: the one that has a copy.
unique_items() {
    awk -F '\037' '!($2 in line) { order[++count] = $2; line[$2] = $0; copy[$2] = $9; next } copy[$2] == "" && $9 != "" { line[$2] = $0; copy[$2] = $9 }
        END { for (number = 1; number <= count; number++) print line[order[number]] }' "$work/items"
}

manifest() {
    { read -r kernel; read -r addresses; read -r host_name; } < "$work/head" 2>/dev/null || :
    printf '{"format": "fidelitas-evidence", "version": 1, "platform": "linux",\n'
    printf ' "subject": %s, "kernel": %s, "live": %s, "probe": %s,\n' "$(printf '%s\n' "$host_name" | json text -)" "$(printf '%s\n' "$kernel" | json text -)" "$live" "$PROBE_VERSION"
    printf ' "addresses": %s,\n' "${addresses:-null}"
    awk '$1 == "machine" && length($2) == 64 { machine = "\"" $2 "\"" }
        $1 == "key" && length($2) == 64 { keys = keys (keys == "" ? "" : ", ") "\"" $2 "\"" }
        END { printf " \"machine\": %s, \"host_keys\": [%s],\n", (machine == "" ? "null" : machine), keys }' "$work/identity"
    printf ' "taken": "%s", "uid": %s,\n' "$(date -u +%Y-%m-%dT%H:%M:%SZ)" "$me"
    printf ' "items": [\n'
    unique_items > "$work/items.unique"
    json items "$work/items.unique"
    printf ' ],\n "listings": [\n'
    json listings "$work/listings"
    printf ' ],\n "zone": %s, "logs": [\n' "$(json text "$work/zone")"
    json logs "$work/logs"
    printf ' ],\n "gaps": [\n'
    awk '!($0 in met) { met[$0]; print }' "$work/gaps" > "$work/gaps.unique"
    json gaps "$work/gaps.unique"
    printf ' ]}\n'
}
pack() {
    for name in command-digests interesting identity; do [ -e "$work/$name" ] || : > "$work/$name"; done
    [ -s "$work/zone" ] || printf '\n' > "$work/zone"
    member_digests > "$work/digests"
    manifest > "$work/bundle/manifest.json"
    cd "$work/bundle" && tar -cf - manifest.json files listings logs
}

# The work is done by a process of its own, so that a signal is answered at once and ends all of it.
: > "$work/phase"; : > "$work/watched"
collect < /dev/null &
worker=$!
start_alarm "$deadline" "$worker" "$work/late"
wait "$worker" 2>/dev/null
stop_alarm "$work/late"
alarm=
if [ -e "$work/late" ]; then phase_gap "was not read: the deadline of $deadline seconds came first"
else phase_gap 'was not read: the collecting was ended'
fi
pack &
worker=$!
wait "$worker"
status=$?
worker=
exit "$status"
