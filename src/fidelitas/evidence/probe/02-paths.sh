# -- paths: where they lead, and who besides root decides that -------------------------------------------------------------------------

if find . -prune -printf '' 2>/dev/null; then gnu=true; else gnu=false; fi

# Prints "PATH TYPE MODE UID GID SIZE MTIME LINKS TARGET" of each path in the file $1, a NUL after each path; links are not followed.
states_gnu() {
    xargs -0 -n 1000 sh -c 'exec find "$@" -prune -printf "%p\037%y\037%m\037%U\037%G\037%s\037%T@\037%n\037%l\\0"' find < "$1" 2>/dev/null |
        tr '\n\0' '\036\n' | awk -F '\037' -v OFS='\037' '{
            path = $1 == "." ? "/" : substr($1, 2)
            target = $0
            for (at = 1; at <= 8; at++) target = substr(target, index(target, "\037") + 1)
            sub(/[.].*/, "", $7)
            print path, ($2 ~ /^[fdl]$/ ? $2 : "o"), $3, $4, $5, $6, $7, $8, target }'
}
states_small() {
    xargs -0 -n 1000 stat -c '%a %u %g %s %Y %h %f %n' -- < "$1" 2>/dev/null | awk -v OFS='\037' '{
        kind = length($7) == 4 ? substr($7, 1, 1) : "-"
        path = $0
        for (at = 1; at <= 7; at++) path = substr(path, index(path, " ") + 1)
        path = path == "." ? "/" : substr(path, 2)
        print path, (kind == "8" ? "f" : kind == "4" ? "d" : kind == "a" ? "l" : "o"), $1, $2, $3, $4, $5, $6 }' > "$work/states.small"
    while IFS= read -r record; do
        case $record in
            *"$separator"l"$separator"*) printf '%s\037%s\n' "$record" "$(readlink ".${record%%"$separator"*}" | tr '\n' '\036' | sed "s/$broken\$//")" ;;
            *) printf '%s\037\n' "$record" ;;
        esac
    done < "$work/states.small"
}
states_of() { if [ "$gnu" = true ]; then states_gnu "$1"; else states_small "$1"; fi; }

# learn FILE: adds the states of the paths in FILE, one a line, to $work/states; "-" stands for what is not there, "?" for what does not answer.
# FILE.0 has the same paths, each behind a dot and before a NUL.
learn() {
    mv "$1.0" "$work/learn.0"
    if ! within 60 states_of "$work/learn.0" > "$work/learnt"; then # a file system that does not answer: one by one
        awk -F '\037' 'FILENAME == ARGV[1] { seen[$1]; next } !($0 in seen)' "$work/learnt" "$1" | head -n 300 > "$work/learn.rest"
        while IFS= read -r slow; do
            printf '.%s\0' "$slow" > "$work/learn.0"
            within 3 states_of "$work/learn.0" >> "$work/learnt" || printf '%s\037?\037\037\037\037\037\037\037\n' "$slow" >> "$work/learnt"
        done < "$work/learn.rest"
    fi
    # An access control list can let others write to a folder; its mask then stands where the rights of the group are.
    : > "$work/shared"
    awk -F '\037' -v shared="$work/shared" 'FILENAME == ARGV[1] { seen[$1]; print; if ($2 == "d" && $3 ~ /[2367].$/) print substr($1, 2) > shared; next }
        !($0 in seen) { print $0 "\037-\037\037\037\037\037\037\037" }' "$work/learnt" "$1" >> "$work/states"
    [ -s "$work/shared" ] || return 0
    if command -v getfacl >/dev/null 2>&1; then
        (sed 's/^$/./' "$work/shared" | tr '\n' '\0' | xargs -0 getfacl -n -s -- 2>/dev/null) | sed -n 's/^# file: //p' | sed 's/^\.$//; s/^/\//' >> "$work/acls"
        grep '\\' "$work/shared" | sed 's/^/\//' >> "$work/acls" # getfacl writes such names in another way: taken to have one
    elif [ "$gnu" = true ]; then
        (sed 's/^$/./' "$work/shared" | tr '\n' '\0' | xargs -0 ls -ld -- 2>/dev/null) | awk 'substr($1, 11) == "+" { found = 1 } END { exit !found }' &&
            sed 's/^/\//' "$work/shared" >> "$work/acls"
    else sed 's/^/\//' "$work/shared" >> "$work/acls"
    fi
}

# Who can be in a group, "GID WHO" a line: nobody but root (nothing), one account (its user ID), or several ("*").  Where accounts come from a
# directory too, only what is in no group at all is sure: then the file is empty, and every group counts as several.
: > "$work/groups"
# "UID GID GROUPS" of each account, of the first of that user ID: the rights that it has of its own.
: > "$work/accounts"
learn_accounts() {
    : > "$work/none"
    accounts_file=$work/none groups_file=$work/none services_file=$work/none
    for name in passwd group nsswitch.conf; do
        awk -F '\037' -v path="/etc/$name" '$1 == path { print $2 }' "$work/members" > "$work/member"
        [ -s "$work/member" ] || continue
        read -r number < "$work/member"
        case $name in
            passwd) accounts_file=$work/bundle/files/$number ;;
            group) groups_file=$work/bundle/files/$number ;;
            *) services_file=$work/bundle/files/$number ;;
        esac
    done
    awk -F : -v accounts="$work/accounts" '
        FILENAME == ARGV[1] && /^[ \t]*(passwd|group|initgroups)[ \t]*:/ {
            count = split($2, source, /[ \t]+/)
            for (at = 1; at <= count; at++) if (source[at] !~ /^(files|compat|systemd|altfiles|)$/ && source[at] !~ /^[[]/) elsewhere = 1
        }
        FILENAME == ARGV[2] && $3 ~ /^[0-9]+$/ && $4 ~ /^[0-9]+$/ && length($3) < 11 && length($4) < 11 {
            uid[$1] = $3 + 0
            if (!($3 + 0 in primary)) { primary[$3 + 0] = $4 + 0; first[$3 + 0] = $1; order[++known] = $3 + 0 }
            join($4 + 0, $3 + 0)
        }
        FILENAME == ARGV[2] && /^[+]/ { elsewhere = 1 }
        FILENAME == ARGV[3] && /^[+]/ { elsewhere = 1 }
        FILENAME == ARGV[3] && $3 ~ /^[0-9]+$/ && length($3) < 11 {
            if (!($3 + 0 in members)) members[$3 + 0] = ""
            count = split($4, name, ",")
            for (at = 1; at <= count; at++) {
                if (name[at] == "") continue
                if (!(name[at] in uid)) { members[$3 + 0] = "*"; continue }
                join($3 + 0, uid[name[at]])
                if (first[uid[name[at]]] == name[at]) groups[uid[name[at]]] = groups[uid[name[at]]] "," $3 + 0
            }
        }
        function join(gid, one) {
            if (one == 0) { if (!(gid in members)) members[gid] = ""; return }
            members[gid] = !(gid in members) || members[gid] == "" || members[gid] == one "" ? one "" : "*"
        }
        END {
            if (!elsewhere) for (gid in members) printf "%s\037%s\n", gid, members[gid]
            for (at = 1; at <= known; at++) printf "%s\037%s\037%s\n", order[at], primary[order[at]], substr(groups[order[at]], 2) > accounts
        }' "$services_file" "$accounts_file" "$groups_file" > "$work/groups"
}

# walk FILE: says of each path in FILE, one a line, where it leads, in $work/walked: "PATH KIND REAL WHO PLACE LEFT SIZE".  Links are followed as a
# process confined to the root folder would follow them: an absolute one starts again there, and ".." never leaves it.
#   KIND   f, d, o: what is there; -: nothing; L: too many links; ?: it does not answer
#   WHO    who besides root decides what is found there: nobody (nothing), one account (its user ID), or several ("*"); PLACE is the
#          folder from which on that is so, and LEFT is 1 where a link led out of it again
walk() {
    walk_rounds=0
    while :; do
        walk_rounds=$((walk_rounds + 1))
        : > "$work/need"
        awk -F '\037' -v OFS='\037' -v me="$me" -v need="$work/need" -v told="$work/walked" -v last="$((walk_rounds > WALK_LIMIT))" '
        FILENAME == ARGV[1] { answered[$1]; next }
        FILENAME == ARGV[2] { if (!($0 in answered)) { answered[$0]; ask[++asked] = $0 } next }
        !asked { exit }
        FILENAME == ARGV[3] { type[$1] = $2; mode[$1] = $3; uid[$1] = $4; gid[$1] = $5; size[$1] = $6; links[$1] = $8; target[$1] = $9; next }
        FILENAME == ARGV[4] { member[$1] = $2; next }
        { listed[$0] }
        END { for (at = 1; at <= asked; at++) follow(ask[at]) }
        function join(one, other) { return one == "" || one == other ? other : other == "" ? one : "*" }
        function bits(text, from) { return length(text) < from ? 0 : substr(text, length(text) - from + 1, 1) + 0 }
        function can_write(digit) { return digit == 2 || digit == 3 || digit == 6 || digit == 7 }
        function owner(path) { return uid[path] == 0 || uid[path] == me ? "" : uid[path] "" }
        # Who can put something else in the place of an entry of a folder.
        function control(folder, entry,   shared) {
            shared = ""
            sticky = 0
            if (can_write(bits(mode[folder], 1))) shared = "*"
            else if (can_write(bits(mode[folder], 2))) shared = folder in listed || !(gid[folder] in member) ? "*" : member[gid[folder]]
            if (shared == me "") shared = ""
            if (shared != "" && bits(mode[folder], 4) % 2) { # in a sticky folder only the owner of an entry
                sticky = 1
                shared = type[entry] == "-" || type[entry] == "?" ? "" : owner(entry)
                if (type[entry] != "d" && links[entry] > 1) shared = "*"
            }
            return join(owner(folder), shared)
        }
        function tell(path, kind, real, who, place, left) { print path, kind, real, who, place, left, size[real] >> told }
        # What is below is asked for at the same time: it counts only if what is above turns out to be a folder.
        function unknown(path, missing, rest,   count, part, at) {
            if (last) { tell(path, "?", missing, "*", "/", 0); return }
            needed(missing)
            count = split(rest, part, "/")
            for (at = 1; at <= count && part[at] != ".."; at++) if (part[at] != "" && part[at] != ".") {
                missing = (missing == "/" ? "" : missing) "/" part[at]
                if (!(missing in type)) needed(missing)
            }
        }
        function needed(path) {
            if (path in met) return
            met[path]
            print path > need
            printf ".%s%c", (path == "/" ? "" : path), 0 > (need ".0")
        }
        function follow(path,   rest, real, part, slash, folder, here, who, place, left, hops, one) {
            rest = path; real = who = place = ""; hops = 0
            while (rest != "") {
                slash = index(rest, "/")
                part = slash ? substr(rest, 1, slash - 1) : rest
                rest = slash ? substr(rest, slash + 1) : ""
                if (part == "" || part == ".") continue
                folder = real == "" ? "/" : real
                if (!(folder in type)) { unknown(path, folder, part "/" rest); return }
                if (type[folder] != "d") { tell(path, type[folder] == "?" ? "?" : "-", real "/" part, who, place, 0); return }
                if (part == "..") { sub(/[\/][^\/]*$/, "", real); continue }
                here = real "/" part
                if (!(here in type)) { unknown(path, here, rest); return }
                one = control(folder, here)
                if (one != "" && place == "") place = sticky ? here : folder
                who = join(who, one)
                if (type[here] == "-" || type[here] == "?") {
                    tell(path, type[here], here (rest == "" ? "" : "/" rest), who, place, 0)
                    return
                }
                if (type[here] == "l") {
                    if (++hops > 40 || target[here] == "" || length(rest) > 4096) { tell(path, "L", here, who, place, 0); return }
                    if (target[here] ~ /[\036\037]/) { tell(path, "?", here, who, place, 0); return }
                    if (substr(target[here], 1, 1) == "/") real = ""
                    rest = target[here] "/" rest
                    continue
                }
                real = here
            }
            if (real == "") real = "/"
            if (!(real in type)) { unknown(path, real, ""); return }
            left = place != "" && place != "/" && index(real "/", place "/") != 1
            tell(path, type[real], real, who, place, left ? 1 : 0)
        }' "$work/walked" "$1" "$work/states" "$work/groups" "$work/acls"
        [ -s "$work/need" ] || return 0
        learn "$work/need"
    done
}
# A path of more parts than this is nobody's honest work.
WALK_LIMIT=150

# locate PATH: sets $kind, $real, $who, $left and $size of a path.
located() {
    V=$1 awk -F '\037' -v OFS='\037' '$1 == ENVIRON["V"] { print $2, $3, $4, $6, $7; exit }' "$work/walked" > "$work/located"
}
locate() {
    located "$1"
    if [ ! -s "$work/located" ]; then
        printf '%s\n' "$1" > "$work/located"
        walk "$work/located"
        located "$1"
    fi
    IFS=$separator read -r kind real who left size < "$work/located"
}
