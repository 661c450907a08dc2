# -- the policy of sudo, and what it includes ---------------------------------------------------------------------------------------------

# The include directives of a policy file: "f PATH" or "d PATH" a line, quotes and escapes undone (sudoers(5), Including other files); for a
# file named by the host also "h PATH" with "*" for that name, since one policy is often put on many hosts and asked about for each.
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
        path = every = ""
        quoted = substr(line, 1, 1) == "\""
        for (at = quoted ? 2 : 1; at <= length(line); at++) {
            one = substr(line, at, 1)
            if (quoted && one == "\"") break
            if (!quoted && (one == " " || one == "\t")) break
            if (one == "\\" && (!quoted || substr(line, at + 1, 1) == "\"")) { at++; one = substr(line, at, 1) }
            else if (substr(line, at, 2) == "%h") { at++; path = path host; every = every "*"; continue }
            path = path one
            every = every (one ~ /[][*?\\]/ ? "?" : one)
        }
        if (path != "") print kind " " path
        if (kind == "f" && every ~ /\*[^\/]*$/ && every !~ /\*.*\//) print "h " every
    }' "$1"
}

# Where the next level of includes is listed: "VERB PATH" a line.
: > "$work/level"

# policy_level: fetches the policy files of $work/level, and prints what they include: "f PATH" or "d PATH" a line.
policy_level() {
    while read -r verb path; do want "$verb" "$POLICY_LIMIT" masked_policy "$path"; done < "$work/level"
    fetch
    while read -r verb path; do
        member "$path" || continue
        includes_of "$member" | V=${path%/*} awk "$tidy"'{
            path = substr($0, 3)
            print substr($0, 1, 2) tidied(substr(path, 1, 1) == "/" ? path : ENVIRON["V"] "/" path) }'
    done < "$work/level"
}

# policy_folder PATH: prints every file of an included folder, also those whose names make sudo skip them: an auditor wants to see them.
policy_folder() {
    want look 0 '' "$1"
    locate "$1"
    case $kind in f | o) gap "$1" 'is not a folder' ;; esac
    [ "$kind" = d ] || return 0
    inside "$1" 1 '*' | sed 's/^/member /'
    if [ -r ".$real" ]; then
        find ".$real" -mindepth 1 -maxdepth 1 -type d 2>/dev/null < /dev/null | sed 's/.*\///' | while IFS= read -r name; do want look 0 '' "$1/$name"; done
    fi
}

# Level by level: the policy, what it includes, what that includes.
read_policy() {
    want copy "$POLICY_LIMIT" whole /etc/sudo.conf
    fetch
    sudoers=
    if member /etc/sudo.conf; then # sudo.conf(5): the policy may be in another file
        sudoers=$(awk "$tidy"'$1 == "Plugin" { for (at = 4; at <= NF; at++) if ($at ~ /^sudoers_file=\//) { print tidied(substr($at, 14)); exit } }' "$member")
    fi
    printf 'copy %s\n' "${sudoers:-/etc/sudoers}" > "$work/level"
    : > "$work/met"
    depth=0
    while [ -s "$work/level" ]; do
        policy_level > "$work/included"
        sed 's/^[a-z]* //' "$work/level" >> "$work/met"
        {
            sed -n 's/^f /copy /p' "$work/included"
            sed -n 's/^d //p' "$work/included" | sort -u > "$work/folders"
            while IFS= read -r path; do policy_folder "$path"; done < "$work/folders"
            sed -n 's/^h //p' "$work/included" | sort -u > "$work/folders"
            while IFS= read -r path; do inside "${path%/*}" 1 "${path##*/}" | sed 's/^/member /'; done < "$work/folders"
        } > "$work/next"
        awk 'FILENAME == ARGV[1] { met[$0]; next } { path = $0; sub(/^[a-z]* /, "", path) } !(path in met) { met[path]; print }' "$work/met" "$work/next" > "$work/level"
        depth=$((depth + 1))
        if [ -s "$work/level" ] && [ "$depth" -gt "$DEPTH_LIMIT" ]; then
            gap "${sudoers:-/etc/sudoers}" "more than $DEPTH_LIMIT levels of includes" 'what sudo allows to whom'
            break
        fi
        if [ "$(awk 'END { print NR }' "$work/met" "$work/level")" -gt "$FILES_LIMIT" ]; then
            gap "${sudoers:-/etc/sudoers}" "includes more than $FILES_LIMIT files" 'what sudo allows to whom'
            break
        fi
    done
    fetch
}
