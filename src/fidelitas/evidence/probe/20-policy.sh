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

sudoers=/etc/sudoers
if take /etc/sudo.conf whole; then # sudo.conf(5): the policy may lie elsewhere
    tidy "$(awk '$1 == "Plugin" { for (at = 4; at <= NF; at++) if ($at ~ /^sudoers_file=/) print substr($at, 14) }' \
        "$work/bundle/files/etc/sudo.conf" | head -n 1)"
    sudoers=${tidied:-$sudoers}
fi
policy "$sudoers" 0
