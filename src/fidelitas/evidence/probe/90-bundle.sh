# Access control lists, of everything that was looked at.  getfacl(1) escapes what is odd in a name, and passes over what has none.
sort -u "$work/items" > "$work/items.sorted"
awk -F '\001' '$1 != "absent" { sub(/^\//, "", $3); if ($3 != "") print $3 }' "$work/items.sorted" | sort -u | tr '\n' '\0' > "$work/found.0"
in_root() { (cd "${root:-/}" && xargs -0 "$@" < "$work/found.0" 2>/dev/null); }
if command -v getfacl >/dev/null 2>&1; then
    in_root getfacl -n -s -- > "$work/listing"
    listing access-lists 'getfacl -n -s'
elif in_root ls -ld -- | awk '$1 ~ /[+]$/ { found = 1 } END { exit !found }'; then
    gap 'access control lists' 'there are some, and there is no getfacl to read them with'
fi

# The states of all items: "mode uid gid size mtime path" a line, the mode in octal.
if command -v stat >/dev/null 2>&1; then
    in_root stat -L -c '%a %u %g %s %Y %n' -- > "$work/states"
    (cd "${root:-/}" && stat -L -c '%a %u %g %s %Y ' . ) >> "$work/states" 2>/dev/null
else # ls(1) of POSIX shows all but the time
    in_root ls -ldnL -- | awk '{
        bits = 0
        for (at = 2; at <= 10; at++) { bits *= 2; if (substr($1, at, 1) ~ /[rwxst]/) bits += 1 }
        if (substr($1, 4, 1) ~ /[sS]/) bits += 2048
        if (substr($1, 7, 1) ~ /[sS]/) bits += 1024
        if (substr($1, 10, 1) ~ /[tT]/) bits += 512
        name = $0
        for (field = 1; field <= 8; field++) sub(/^[^ ]+ +/, "", name)
        printf "%o %s %s %s null %s\n", bits, $3, $4, $5, name
    }' > "$work/states"
fi

# The digests of all members, as "DIGEST  NAME" or "DIGEST *NAME"; a name with a backslash is escaped, and the line begins with one.
(
    cd "$work/bundle" || exit 3
    if command -v sha256sum >/dev/null 2>&1; then find files listings logs -type f -exec sha256sum -- {} +
    elif command -v shasum >/dev/null 2>&1; then find files listings logs -type f -exec shasum -a 256 -- {} +
    elif command -v openssl >/dev/null 2>&1; then find files listings logs -type f -exec openssl dgst -sha256 -r {} +
    else find files listings logs -type f -print | sed 's/^/-  /'
    fi
) > "$work/digests" 2>/dev/null

# described WHAT FILE: the lines of FILE as the members of a JSON list of items, of listings, or of logs.
described() {
    awk -F '\001' -v what="$1" -v states="$work/states" -v sums="$work/digests" '
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
    BEGIN {
        for (code = 1; code < 32; code++) control[sprintf("%c", code)] = sprintf("\\u%04x", code)
        while ((getline line < sums) > 0) {
            escaped = substr(line, 1, 1) == "\\"
            if (escaped) line = substr(line, 2)
            space = index(line, " ")
            name = substr(line, space + 2)
            if (escaped) gsub(/\\\\/, "\\", name)
            digest[name] = substr(line, 1, space - 1)
        }
        while ((getline line < states) > 0) {
            split(line, part, " ")
            name = line
            for (at = 1; at <= 5; at++) name = substr(name, index(name, " ") + 1)
            state["/" name] = ", \"mode\": \"" part[1] "\", \"uid\": " part[2] ", \"gid\": " part[3] ", \"size\": " part[4] \
                ", \"mtime\": " part[5]
        }
    }
    NR > 1 { print "," }
    what == "listings" { printf "  {\"name\": %s, \"tool\": %s%s}", quoted($1), quoted($2), member("listings/" $1); next }
    what == "logs" {
        printf "  {\"path\": %s%s, \"lines\": %d, \"kept\": %d, \"begins\": %s, \"ends\": %s}", quoted($1), member($2), $3, $4, quoted($5), quoted($6)
        next
    }
    $1 == "absent" { printf "  {\"path\": %s, \"kind\": \"absent\"}", quoted($2); next }
    {
        found = $3 == $2 ? "" : ", \"real\": " quoted($3)
        copy = $1 == "file" ? member("files" $2) : ""
        printf "  {\"path\": %s, \"kind\": \"%s\"%s%s%s%s}", quoted($2), $1, state[$3], found, copy, $4
    }
    END { if (NR) print "" }' "$2"
}

# What was looked at twice, once for itself and once above another, is one item: the one that tells more.
awk -F '\001' '!($2 in at) { order[++count] = $2; line[$2] = $0; at[$2]; next } $4 != "" { line[$2] = $0 }
    END { for (number = 1; number <= count; number++) print line[order[number]] }' "$work/items" > "$work/items.unique"

{
    printf '{"format": "fidelitas-evidence", "version": 1, "platform": "linux",\n'
    printf ' "subject": %s, "kernel": %s, "live": %s, "probe": %s,\n' \
        "$(json_string "$host_name")" "$(json_string "$kernel")" "$live" "$PROBE_VERSION"
    printf ' "addresses": %s,\n' "$addresses"
    printf ' "taken": "%s", "uid": %s,\n' "$(date -u +%Y-%m-%dT%H:%M:%SZ)" "$(id -u)"
    printf ' "items": [\n'
    described items "$work/items.unique"
    printf ' ],\n "listings": [\n'
    described listings "$work/listings"
    printf ' ],\n "zone": %s, "logs": [\n' "$(json_string "$host_zone")"
    described logs "$work/logs"
    printf ' ],\n "gaps": [\n'
    awk 'NR > 1 { print "  " last "," } { last = $0 } END { if (NR) print "  " last }' "$work/gaps"
    printf ' ]}\n'
} > "$work/bundle/manifest.json"

cd "$work/bundle" && tar -cf - manifest.json files listings logs
