# -- reading: with the rights of whoever decides what is found at a path ---------------------------------------------------------------

# What reads a file, run with the rights of an account or of root.  It reads "VERB NUMBER SIZE FOLDER NAME" a line and answers each in turn.
# It enters the folder first and sees that it is the one that was meant; from then on no link can be put in its place.
reader='
set -uf
IFS=$(printf "\037")
nofollow=
if dd if=/dev/null iflag=nofollow,nonblock of=/dev/null 2>/dev/null; then nofollow=yes; fi
content() {
    if [ "$nofollow" = yes ]; then dd if="./$name" iflag=nofollow,nonblock bs=65536 2>/dev/null | head -c "$1"
    else head -c "$1" < "./$name" 2>/dev/null
    fi
}
key_state() {
    content 4096 | { read -r head; read -r next; case $head in
        *"BEGIN ENCRYPTED PRIVATE KEY"*) echo encrypted ;;
        *"BEGIN OPENSSH PRIVATE KEY"*) case $next in b3BlbnNzaC1rZXktdjEAAAAABG5vbmU*) echo open ;; *) echo encrypted ;; esac ;;
        *"BEGIN "*"PRIVATE KEY"*) case $next in *ENCRYPTED*) echo encrypted ;; *) echo open ;; esac ;;
        *) echo none ;;
    esac; }
}
while read -r verb number size argument folder name; do
    (
        cd -P -- ".$folder" 2>/dev/null && [ "$(pwd -P)" = "$AT${folder:-/}" ] || [ "$(pwd -P)" = "$AT$folder" ] || { printf "no %s\n" "$number"; exit; }
        [ -f "./$name" ] && [ ! -L "./$name" ] && [ -r "./$name" ] || { printf "no %s\n" "$number"; exit; }
        case $verb in
            copy) printf "copy %s\n" "$number"; content "$size"; printf "\nend %s\n" "$number" ;;
            key) printf "say %s %s\n" "$number" "$(key_state)" ;;
            first) printf "say %s %s\n" "$number" "$(content 200 | tr "\000" "\n" | head -n 1 | tr -cd "\040-\176")" ;;
            kept) if content 2097152 | LC_ALL=C grep -Eqi -e "$argument" 2>/dev/null; then printf "say %s yes\n" "$number"; else printf "say %s none\n" "$number"; fi ;;
            sum) printf "say %s %s\n" "$number" "$(content "$size" | "$argument" | sed "s/[ *-].*//")" ;;
        esac
    )
done'

# run_as UID GID GROUPS COMMAND...: runs a command with the rights of an account: real, effective and saved IDs, and its groups.  The group ID
# of the process is one that nobody has, and the account is in its own group by the list, which gives the same rights: so the account can end
# the process, but not look into it or change what it says (ptrace(2)).
nobody_gid=2147483646
runner=
if [ "$me" = 0 ]; then
    if setpriv --reuid=65534 --regid=65534 --clear-groups true 2>/dev/null; then runner=setpriv
    elif chroot --skip-chdir --userspec=65534:65534 --groups=65534 / true 2>/dev/null; then runner='chroot'
    elif [ "$live" = true ] && start-stop-daemon -S -p "$work/none" -c 65534:65534 -a /bin/true -x /bin/true > /dev/null 2>&1; then
        # It asks the account files of the machine that it runs on, and takes no groups but those that the account has there.
        runner=daemon
    fi
fi
session=
if command -v setsid >/dev/null 2>&1; then session=setsid; fi
run_as() {
    as_uid=$1 as_gid=$2 as_groups=$3${3:+${2:+,}}$2
    shift 3
    case $runner in
        setpriv)
            if [ -n "$as_groups" ]; then as_groups=--groups=$as_groups; else as_groups=--clear-groups; fi
            $session env -i PATH="$PATH" LC_ALL=C AT="$at_root" setpriv --reuid="$as_uid" --regid="$nobody_gid" "$as_groups" --no-new-privs --inh-caps=-all "$@" ;;
        chroot)
            $session env -i PATH="$PATH" LC_ALL=C AT="$at_root" chroot --skip-chdir --userspec="$as_uid:$nobody_gid" --groups="${as_groups:-$nobody_gid}" / "$@" ;;
        *)
            program=$(command -v "$1")
            shift
            $session env -i PATH="$PATH" LC_ALL=C AT="$at_root" start-stop-daemon -S -p "$work/none" -c "$as_uid:${as_gid:-$nobody_gid}" -a "$program" -x "$program" -- "$@" ;;
    esac
}

# want VERB LIMIT ARGUMENT PATH: asks for something; `fetch` gets all that was asked for.  The verbs:
#   copy     a copy, through the filter ARGUMENT; what is not there is noted, what is no file is a gap
#   member   the same of what was found in a folder: another kind of thing is noted only
#   if       the same, where there is such a file
#   look     the state alone, of the path, what it leads to and the folders above
#   seen     the same, where there is something
#   key      whether it is a private key, and whether a passphrase protects it
#   kept     whether a line of it matches ARGUMENT, a kind of file with passwords
#   first    its first line
#   sum      its digest, by the tool ARGUMENT
want() { printf '%s\037%s\037%s\037%s\n' "$1" "$2" "$3" "$4" >> "$work/wanted"; }

# A function of awk: a path as it is cited, without ".", ".." and doubled slashes.
tidy='
function tidied(path,   count, part, at, out) {
    count = split(path, part, "/")
    for (at = 1; at <= count; at++) {
        if (part[at] == "" || part[at] == ".") continue
        if (part[at] == "..") sub(/[\/][^\/]*$/, "", out)
        else out = out "/" part[at]
    }
    return out == "" ? "/" : out
}
'

# fetch: gets what was asked for.
fetch() {
    [ -s "$work/wanted" ] || return 0
    mv "$work/wanted" "$work/requests"
    : > "$work/wanted"
    awk -F '\037' -v OFS='\037' -v gaps="$work/gaps" "$tidy"'
        {
            odd = ""
            if (length($4) > 4096 || split($4, part, "/") > 128) odd = "its path is too long"
            if (NF != 4 || $4 ~ /[\036]/) odd = "its name holds a control character"
            if (odd == "") print $1, $2, $3, tidied($4)
            else print substr($4, 1, 200), odd, "" >> gaps
        }' "$work/requests" > "$work/tidied"
    awk -F '\037' '{ path = $4; while (path != "" && !(path in seen)) { seen[path]; print path; sub(/[\/][^\/]*$/, "", path) } } END { if (NR) print "/" }' \
        "$work/tidied" > "$work/paths"
    walk "$work/paths"
    sort_out
    get_trusted
    get_controlled
}

# sort_out: makes items, gaps and jobs of the requests.  A job is "WHO VERB NUMBER SIZE ARGUMENT PATH REAL".
sort_out() {
    read -r count < "$work/count"
    awk -F '\037' -v OFS='\037' -v items="$work/items" -v gaps="$work/gaps" -v copied="$work/copied" -v count="$count" -v counter="$work/count" -v me="$me" \
        -v runner="$runner" -v most="$ACCOUNT_FILES" -v room="$ACCOUNT_LIMIT" -v whole="$TOTAL_LIMIT" -v absent="$work/absent" '
        FILENAME == ARGV[1] { type[$1] = $2; state[$1] = $3 OFS $4 OFS $5 OFS $6 OFS $7; size[$1] = $6; uid[$1] = $4; next }
        FILENAME == ARGV[2] { kind[$1] = $2; real[$1] = $3; who[$1] = $4; place[$1] = $5; left[$1] = $6; next }
        FILENAME == ARGV[3] { item[$2]; next }
        FILENAME == ARGV[4] { member[$1] = $2; total += $3; used[$4] += $3; next }
        { request($1, $2, $3, $4) }
        function note(path,   what) {
            if (path in item) return
            item[path]
            what = kind[path]
            if (what == "-") print "absent", path >> items
            else print (what == "f" ? "file" : what == "d" ? "folder" : "other"), path, real[path], state[real[path]], "", "" >> items
        }
        function name_of(path) { sub(/.*[\/]/, "", path); return path }
        function above(path,   folder) {
            while (path != "" && path != "/") {
                sub(/[\/][^\/]*$/, "", path)
                folder = path == "" ? "/" : path
                if (folder in item) continue
                if (folder in kind) { if (kind[folder] == "d") note(folder) }
                else if (type[folder] == "d") { item[folder]; print "folder", folder, folder, state[folder], "", "" >> items }
            }
        }
        function lost(path, why, weakens) { print path, why, weakens >> gaps }
        function request(verb, limit, argument, path,   what, by, number) {
            what = kind[path]
            if (what == "L" || what == "?") {
                if (verb != "look" && verb != "seen") lost(path, what == "L" ? "too many symbolic links" : "the file system does not answer, or a link is odd", "")
                return
            }
            if (what == "-") {
                if (verb == "copy" || verb == "member" || verb == "look") above(path)
                if (verb == "if" && name_of(real[path]) != name_of(path)) note(path)  # a link that leads nowhere is no missing file
                if (verb == "copy" || verb == "member" || verb == "look" || (verb == "if" && me != 0)) print path, real[path], verb > absent
                return
            }
            above(path)
            if (real[path] != path) above(real[path])
            if (verb == "look" || verb == "seen" || what != "f") {
                note(path)
                if (verb == "copy" && what == "d") lost(path, "is a folder where a file was expected", "")
                else if (verb == "copy" && what == "o") lost(path, "is not a regular file", "")
                else if (verb == "if" && what == "o" && real[path] != "/dev/null") lost(path, "is not a regular file", "")
                return
            }
            by = who[path]
            if (verb != "copy" && verb != "member" && verb != "if") {
                if (verb == "key") note(path)
                if ((verb == "first" || verb == "kept") && (left[path] || size[real[path]] == 0)) return
            }
            if (left[path]) { note(path); return lost(path, "is a link out of a folder that " account(by) " can write: not followed", "") }
            if (by != "" && me != 0) { note(path); return lost(path, "lies below a folder that " account(by) " can write: only root can read it with the rights of that account", "") }
            if (by != "" && runner == "") { note(path); return lost(path, "lies below a folder that " account(by) " can write, and there is no setpriv, chroot or start-stop-daemon to read it with the rights of that account", "") }
            if (by != "" && by != "*" && uid[real[path]] != by && uid[real[path]] != 0) { note(path); return lost(path, "belongs to uid " uid[real[path]] ", below a folder that " account(by) " can write: not read", "") }
            if (size[real[path]] + 0 > limit + 0 && verb != "first" && verb != "kept" && verb != "key") { note(path); return lost(path, "is larger than " limit " bytes", "") }
            number = 0
            if (verb == "copy" || verb == "member" || verb == "if") {
                if (path in taken) return
                taken[path]
                if ((real[path] SUBSEP argument) in member) { number = member[real[path] SUBSEP argument]; return job("again", by, number, argument, path) }
                if (by != "" && place[path] != "/" && used[by] + size[real[path]] > room) { note(path); return lost(path, "more than " room " bytes below folders that " account(by) " can write: not read", "") }
                if (total + size[real[path]] > whole) { note(path); return lost(path, "more than " whole " bytes in all: not read", "") }
                used[by] += size[real[path]]; total += size[real[path]]
                number = ++count
                member[real[path] SUBSEP argument] = number
                print real[path] SUBSEP argument, number, size[real[path]], by >> copied
                return job("copy", by, number, argument, path)
            }
            job(verb, by, ++count, argument, path)
        }
        function account(by) { return by == "*" ? "several accounts" : "uid " by }
        function job(verb, by, number, argument, path) {
            if (by != "" && place[path] != "/" && ++jobs[by] > most) {
                if (jobs[by] == most + 1) lost(path, "more than " most " files below folders that " account(by) " can write: the rest is not read", "")
                return
            }
            print by, verb, number, size[real[path]], argument, path, real[path], state[real[path]]
        }
        END { print count > counter }' "$work/states" "$work/walked" "$work/items" "$work/copied" "$work/tidied" > "$work/jobs"
    [ -e "$work/absent" ] || return 0
    while IFS=$separator read -r path real verb; do absent_or_gap "$path" "$real" "$verb"; done < "$work/absent"
    rm -f "$work/absent"
}

# Why a path that is not there is not there: absent is a fact, unsearchable is a gap.
absent_or_gap() {
    if [ "$me" != 0 ]; then
        parent=${2%/*}
        while [ -n "$parent" ] && [ ! -e ".$parent" ]; do parent=${parent%/*}; done
        if [ -d "./$parent/" ] && [ ! -x "./$parent/" ]; then gap "$1" 'permission denied'; return 0; fi
    fi
    [ "$3" = if ] || printf 'absent\037%s\n' "$1" >> "$work/items"
}

# keep PATH REAL STATE NUMBER: makes a file an item, with its copy where NUMBER is one, and its digests.
keep() { printf 'file\037%s\037%s\037%s\037%s\037%s\n' "$1" "$2" "$3" "$4" "${5:-}" >> "$work/items"; }

# take NUMBER FILTER FILE PATH REAL STATE: a copy for the bundle, made of FILE through a filter.
take() {
    if "$2" < "$3" > "$work/bundle/files/$1" 2>/dev/null; then
        printf '%s\037%s\n' "$4" "$1" >> "$work/members"
        keep "$4" "$5" "$6" "$1"
    else
        rm -f "$work/bundle/files/$1"
        keep "$4" "$5" "$6" ''
        gap "$4" 'could not be read'
    fi
}

# result VERB ARGUMENT PATH TEXT: what a job found out.
result() {
    case $1 in
        key) case $4 in open | encrypted) printf '%s\t%s\n' "$4" "$3" >> "$work/keys" ;; esac ;;
        first) case $4 in '#!'*) printf '%s\t%s\n' "$3" "$4" >> "$work/first-lines" ;; esac ;;
        kept) [ "$4" != yes ] || printf '%s\t%s\n' "$2" "$3" >> "$work/kept" ;;
        sum) case $4 in '' | *[!0-9a-f]*) ;; *) printf '%s\t%s\t%s\n' "$2" "$4" "$3" >> "$work/sums" ;; esac ;;
    esac
}

# The files whose path root alone decides.
get_trusted() {
    awk -F '\037' '$1 == "" && ($2 == "copy" || $2 == "again")' "$work/jobs" > "$work/jobs.copy"
    many_copies
    while IFS=$separator read -r by verb number size argument path real mode uid gid bytes mtime; do
        state=$mode$separator$uid$separator$gid$separator$bytes$separator$mtime
        if [ "$me" != 0 ] && [ ! -r ".$real" ]; then keep "$path" "$real" "$state" ''; gap "$path" 'permission denied'
        elif [ "$verb" = again ] || [ -e "$work/bundle/files/$number" ]; then again
        else take "$number" "$argument" ".$real" "$path" "$real" "$state"
        fi
    done < "$work/jobs.copy"
    awk -F '\037' '$1 == "" && $2 != "copy" && $2 != "again"' "$work/jobs" > "$work/jobs.all"
    [ -s "$work/jobs.all" ] || return 0
    # First lines, and searches for a pattern, of many files by one process; what is large is read only in part, one by one.
    awk -F '\037' '($2 == "first" || $2 == "kept") && $11 + 0 <= 2097152' "$work/jobs.all" > "$work/jobs.many"
    awk -F '\037' '!(($2 == "first" || $2 == "kept") && $11 + 0 <= 2097152)' "$work/jobs.all" > "$work/jobs.one"
    if [ -s "$work/jobs.many" ]; then
        many_first
        cut -d "$separator" -f 5 "$work/jobs.many" | sort -u > "$work/many-kinds"
        while IFS= read -r many_kind; do [ -z "$many_kind" ] || many_kept "$many_kind"; done < "$work/many-kinds"
    fi
    [ -s "$work/jobs.one" ] || return 0
    asked > "$work/asked"
    AT=$at_root sh -c "$reader" < "$work/asked" 2>/dev/null > "$work/answer"
    while read -r said number text; do
        IFS=$separator read -r by verb number size argument path real rest <&3
        [ "$said" != say ] || result "$verb" "$argument" "$path" "$text"
    done < "$work/answer" 3< "$work/jobs.one"
}
# many_copies: copies of many files through the masks by one process each, not one a file; what fails is left to be taken one by one.
many_copies() {
    for many_filter in masked unit_lines; do
        V=$many_filter awk -F '\037' '$2 == "copy" && $5 == ENVIRON["V"] && $11 > 0 && $11 <= 1048576 { print $3 "\037." $7 }' "$work/jobs.copy" > "$work/many"
        [ "$(grep -c . "$work/many")" -gt 3 ] || continue
        case $many_filter in masked) lines_of='{ print }' ;; *) lines_of=$unit_lines ;; esac
        rm -f "$work/many.failed"
        # A line before each file says its number; no line of a file can look so.
        joined() {
            cut -d "$separator" -f 2 "$work/many" | tr '\n' '\0' | xargs -0 awk -v many="$work/many" '
                BEGIN { while ((getline row < many) > 0) { at = index(row, "\037"); number[substr(row, at + 1)] = substr(row, 1, at - 1) } }
                FNR == 1 { print "\036" number[FILENAME] }
                { sub(/^\036/, " ") }
                '"$lines_of" || : > "$work/many.failed"
        }
        joined 2>/dev/null | masked > "$work/many.text"
        [ ! -e "$work/many.failed" ] || continue
        awk -v folder="$work/bundle/files/" '/^\036[0-9]+$/ { if (out != "") close(out); out = folder substr($0, 2); next } { print > out }' "$work/many.text"
    done
    rm -f "$work/many.text"
}
# many_first: the first lines of scripts.
many_first() {
    awk -F '\037' '$2 == "first" { printf ".%s%c", $7, 0 }' "$work/jobs.many" > "$work/many.0"
    [ -s "$work/many.0" ] || return 0
    # Those that begin so; the line itself is read of them alone.
    first_of_scripts() {
        xargs -0 grep -l -a -m 1 '^#!' < "$work/many.0" 2>/dev/null | tr '\n' '\0' |
            xargs -0 awk 'FNR == 1 { if (/^#!/) { gsub(/[^\040-\176]/, ""); print substr(FILENAME, 2) "\037" substr($0, 1, 200) } }' 2>/dev/null
    }
    within 120 first_of_scripts > "$work/many-first"
    awk -F '\037' 'FILENAME == ARGV[1] { line[$1] = $2; next } $2 == "first" && $7 in line { print $6 "\t" line[$7] }' "$work/many-first" "$work/jobs.many" >> "$work/first-lines"
}
# many_kept KIND: the files in which a pattern is.
many_kept() {
    V=$1 awk -F '\037' '$2 == "kept" && $5 == ENVIRON["V"] { printf ".%s%c", $7, 0 }' "$work/jobs.many" > "$work/many.0"
    [ -s "$work/many.0" ] || return 0
    kept_pattern "$1"
    with_pattern() { xargs -0 grep -l -a -E -i -e "$pattern" < "$work/many.0" 2>/dev/null; }
    within 120 with_pattern | sed 's/^\.//' > "$work/many-kept"
    V=$1 awk -F '\037' 'FILENAME == ARGV[1] { found[$0]; next } $2 == "kept" && $5 == ENVIRON["V"] && $7 in found { print $5 "\t" $6 }' \
        "$work/many-kept" "$work/jobs.many" >> "$work/kept"
}
# asked: the jobs of $work/jobs.one as the reader takes them.
asked() {
    while IFS=$separator read -r by verb number size argument path real rest; do
        pattern=$argument
        [ "$verb" != kept ] || kept_pattern "$argument"
        [ "$verb" = again ] || printf '%s\037%s\037%s\037%s\037%s\037%s\n' "$verb" "$number" "$size" "$pattern" "${real%/*}" "${real##*/}"
    done < "$work/jobs.one"
}
# The same file under another path.
again() {
    if [ -e "$work/bundle/files/$number" ]; then
        printf '%s\037%s\n' "$path" "$number" >> "$work/members"
        keep "$path" "$real" "$state" "$number"
    else keep "$path" "$real" "$state" ''
    fi
}

# The files whose path other accounts decide: of each account together, with its rights.
get_controlled() {
    awk -F '\037' '$1 != "" { print $1 }' "$work/jobs" | sort -u > "$work/whose"
    while IFS= read -r whose; do
        V=$whose awk -F '\037' '$1 "" == ENVIRON["V"]' "$work/jobs" > "$work/jobs.one"
        ask "$whose"
    done < "$work/whose"
}

# rights_of_account UID: sets $child_uid, $child_gid and $child_groups; of several accounts ("*") they are the rights that every account has.
rights_of_account() {
    child_uid=65534 child_gid='' child_groups=''
    [ "$1" != '*' ] || return 0
    child_uid=$1
    V=$1 awk -F '\037' '$1 "" == ENVIRON["V"] { print $2; print $3; exit }' "$work/accounts" > "$work/account"
    { read -r child_gid; read -r child_groups; } < "$work/account" || :
}

# content_of LIMIT: prints the file that was located, read with the rights of whoever decides its path.
content_of() {
    if [ -z "$who" ]; then head -c "$1" < ".$real"; return; fi
    rights_of_account "$who"
    printf 'copy\0370\037%s\037\037%s\037%s\n' "$1" "${real%/*}" "${real##*/}" | run_as "$child_uid" "$child_gid" "$child_groups" sh -c "$reader" 2>/dev/null |
        tail -c +8 | head -c "$size"
}
# may_read PATH: whether the file that was located may be read, and a gap where not.
may_read() {
    if [ "$left" = 1 ]; then gap "$1" 'is a link out of a folder that other accounts can write: not followed'
    elif [ -n "$who" ] && { [ "$me" != 0 ] || [ -z "$runner" ]; }; then gap "$1" 'lies below a folder that other accounts can write, and cannot be read with their rights'
    elif [ "$me" != 0 ] && [ ! -r ".$real" ]; then gap "$1" 'permission denied'
    else return 0
    fi
    return 1
}

# said: takes the lines that answer $work/jobs.say, and sets $at to the byte behind them.
said() {
    cannot="cannot be read with the rights of $(rights_named "$1"), below a folder that it can write"
    [ "$1" != '*' ] || cannot='is below a folder that several accounts can write, and not every account may read it: not read'
    unfinished="the process that read it with the rights of $(rights_named "$1") did not finish${child_end#complete}"
    awk -F '\037' -v OFS='\037' -v answer="$work/answer" -v behind="$work/behind" '
        BEGIN { at = 1; more = (getline line < answer) > 0 }
        {
            how = "lost"; text = ""
            if (more && line == "no " $3) how = "no"
            else if (more && index(line, "say " $3 " ") == 1) { how = "say"; text = substr(line, length("say " $3 " ") + 1, 300) }
            if (how != "lost") { at += length(line) + 1; more = (getline line < answer) > 0 }
            gsub(/\037/, " ", text)
            print how, $2, $5, $6, text
        }
        END { print at > behind }' "$work/jobs.say" > "$work/said"
    read -r at < "$work/behind"
    while IFS=$separator read -r how verb argument path text; do
        case $how$verb in
            say*) result "$verb" "$argument" "$path" "$text" ;;
            nofirst) ;;
            no*) gap "$path" "$cannot" ;;
            *) gap "$path" "$unfinished" ;;
        esac
    done < "$work/said"
}

# ask UID: has the jobs of one account done by a process with its rights, and takes what that process says.  It can be stopped or ended by the
# account: whatever does not come whole, and as long as it is by root's own look, is a gap.
CHILD_TIME=30
ask() {
    rights_of_account "$1"
    child_time=$CHILD_TIME
    # What is answered by a line comes first, and is taken by one look.
    awk -F '\037' -v copies="$work/jobs.copy" 'BEGIN { printf "" > copies } $2 == "copy" || $2 == "again" { print > copies; next } { print }' "$work/jobs.one" > "$work/jobs.say"
    cat "$work/jobs.say" "$work/jobs.copy" > "$work/jobs.one"
    asked > "$work/asked"
    room=$(awk -F '\037' '{ total += ($1 == "copy" ? $3 : 0) + 400 } END { printf "%d", total }' "$work/asked")
    child_time=$((child_time + room / 1048576))
    child() { run_as "$child_uid" "$child_gid" "$child_groups" sh -c "$reader" < "$work/asked" 2>/dev/null | head -c "$room" > "$work/answer"; }
    child_end=complete
    within "$child_time" child || child_end='it was ended'
    said "$1"
    while IFS=$separator read -r by verb number size argument path real mode uid gid bytes mtime; do
        state=$mode$separator$uid$separator$gid$separator$bytes$separator$mtime
        if [ "$verb" = again ]; then again; continue; fi
        head=$(tail -c "+$at" "$work/answer" | head -c 300 | tr -d '\000' | head -n 1)
        case $head in
            "no $number" | "say $number "* | "copy $number") at=$((at + ${#head} + 1)) ;;
            *) head= ;;
        esac
        case $verb$head in
            copycopy*)
                tail -c "+$at" "$work/answer" | head -c "$size" > "$work/raw/file"
                if [ "$(tail -c "+$((at + size))" "$work/answer" | head -c 80 | tr -d '\000' | head -n 2)" = "${newline}end $number" ]; then
                    at=$((at + size + ${#number} + 6))
                    take "$number" "$argument" "$work/raw/file" "$path" "$real" "$state"
                else
                    keep "$path" "$real" "$state" ''
                    gap "$path" 'changed while it was read'
                fi ;;
            copyno*)
                keep "$path" "$real" "$state" ''
                gap "$path" "$cannot" ;;
            *)
                keep "$path" "$real" "$state" ''
                gap "$path" "$unfinished" ;;
        esac
    done < "$work/jobs.copy"
    rm -f "$work/raw/file" "$work/answer"
}
rights_named() { if [ "$1" = '*' ]; then printf 'any account'; else printf 'uid %s' "$1"; fi; }

whole() { cat; }

# member PATH: sets $member to the copy of a file that was fetched.
member() {
    V=$1 awk -F '\037' '$1 == ENVIRON["V"] { print $2; exit }' "$work/members" > "$work/member"
    member_number=
    read -r member_number < "$work/member" || :
    member=$work/bundle/files/$member_number
    [ -n "$member_number" ] && [ -f "$member" ]
}

# inside FOLDER DEPTH PATTERN...: prints the paths of what is below a folder, folders left out, whose names match, at most DEPTH levels down.
MANY=5000
inside() {
    folder=$1 depth=$2
    shift 2
    locate "$folder"
    [ "$kind" = d ] || return 0
    if [ ! -r ".$real" ] || [ ! -x ".$real" ]; then gap "$folder" 'permission denied'; return 0; fi
    first=yes
    for pattern; do
        if [ "$first" = yes ]; then set -- -name "$pattern" && first=; else set -- "$@" -o -name "$pattern"; fi
    done
    within 60 find ".$real" -mindepth 1 -maxdepth "$depth" ! -type d \( "$@" \) ! -name '*.dpkg-*' ! -name '*~' -print0 2>/dev/null < /dev/null > "$work/inside.0" ||
        [ -s "$work/inside.0" ] || return 0
    tr '\n\0' '\036\n' < "$work/inside.0" | head -n 200000 | sort | V=$real F=$folder awk -v most="$MANY" -v gaps="$work/gaps" '
        BEGIN { skip = length(ENVIRON["V"]) + (ENVIRON["V"] == "/" ? 1 : 2); folder = ENVIRON["F"] == "/" ? "" : ENVIRON["F"]; OFS = "\037" }
        { name = substr($0, skip + 1) }
        /[\036\037]/ { print folder, "holds a name with a control character: not read", "" >> gaps; next }
        ++count > most { if (count == most + 1) print folder, "holds more than " most " files: the rest is not read", "" >> gaps; next }
        { print folder "/" name }'
}

# want_all VERB LIMIT FILTER FOLDER DEPTH PATTERN...: asks for all of them.
want_all() {
    all_verb=$1 all_limit=$2 all_filter=$3
    shift 3
    want look 0 '' "$1"
    inside "$@" | V="$all_verb$separator$all_limit$separator$all_filter" awk '{ print ENVIRON["V"] "\037" $0 }' >> "$work/wanted"
}
