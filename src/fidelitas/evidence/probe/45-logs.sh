# -- logs: the lines that concern privilege, each at its number ------------------------------------------------------------------------

# A log keeps its number of lines: those that do not concern privilege are empty, so that a citation of file and line holds.
# The choice is made by what stands before the message: the tag of the program, the type of the record.
LOG_TAGS='@LOG_TAGS@'
# Of these programs what PAM says alone.
LOG_DOORS='@LOG_DOORS@'
LOG_RECORDS='@LOG_RECORDS@'
# What a log may be, packed as it is in the bundle: some hundred million bytes of text; and all of them together.
LOG_LIMIT=33554432
LOGS_LIMIT=268435456
# What may be unpacked of one log: a packed one of a few kilobytes can hold as much as a disk.
LOG_TEXT_LIMIT=1073741824
LOG_TIME=300
LOG_FILES=2000

# chosen WHICH NUMBERS: keeps the lines that concern privilege, and notes in NUMBERS how many there were, how many were kept, how the first
# and the last of all begin: their times; how many bytes there were; and how many objects speak of privilege, which are not copied: what is
# masked is found in lines and commands.
chosen() {
    awk -v which="$1" -v numbers="$2" -v tags=" ($LOG_TAGS)( ?[[][0-9]+[]])?(:| [-0-9])" -v doors=" ($LOG_DOORS)( ?[[][0-9]+[]])?(:| [-0-9])[^(]*pam_" \
        -v objects="[ \"]($LOG_TAGS|$LOG_DOORS)([[][0-9]+[]])?[:\"]" -v identifiers="\"SYSLOG_IDENTIFIER\":\"($LOG_DOORS)\"" -v records="type=($LOG_RECORDS) " '
    NF && !/^[{]/ { if (begins == "") begins = substr($0, 1, 40); ends = substr($0, 1, 40) }
    { bytes += length($0) + 1 }
    {
        keep = which == "whole" || (which == "audit" && $0 ~ records)
        if (which == "syslog") {
            begin = substr($0, 1, 160)
            keep = !/^[{]/ && (begin ~ tags || begin ~ doors)
            if (/^[{]/ && $0 ~ objects) others++
        }
        if (which == "journal") keep = !($0 ~ identifiers) || index($0, "\"MESSAGE\":\"pam_")
        if (which == "audit" && /type=SYSCALL / && / euid=0 / && !/ uid=0 /) {
            match($0, /:[0-9]+\)/)
            serial = substr($0, RSTART, RLENGTH)
            keep = 1
        }
        if (which == "audit" && /type=EXECVE / && serial != "" && index($0, serial)) keep = 1
        if (keep) kept++
        print keep ? $0 : ""
    }
    END {
        gsub(/[\001-\037]/, "", begins)
        gsub(/[\001-\037]/, "", ends)
        printf "%d\037%d\037%s\037%s\n%.0f\n%d\n", NR, kept, begins, ends, bytes, others > numbers
    }'
}
if command -v gzip >/dev/null 2>&1; then log_suffix=.gz; packed() { gzip -c; }
else log_suffix=; packed() { cat; }
fi
unpacked() {
    case $1 in
        *.gz) gzip -dc ;;
        *.xz) xz -dc --memlimit=134217728 ;;
        *.bz2) bzip2 -dc ;;
        *.zst) zstd -dcq ;;
        *) cat ;;
    esac
}

# log PATH WHICH: the lines of one log that concern privilege (syslog, audit), or all of them (whole).
log() {
    if grep -qxF -e "$1" "$work/logs-met"; then return 0; fi
    printf '%s\n' "$1" >> "$work/logs-met"
    log_count=$((log_count + 1))
    if [ "$log_count" -gt "$LOG_FILES" ]; then
        [ "$log_count" -ne $((LOG_FILES + 1)) ] || gap "$1" "more than $LOG_FILES files of logs: the rest is not read" 'who used privileges'
        return 0
    fi
    locate "$1"
    [ "$kind" = f ] || return 0
    may_read "$1" || return 0
    case $1 in *.gz) tool=gzip ;; *.xz) tool=xz ;; *.bz2) tool=bzip2 ;; *.zst) tool=zstd ;; *) tool='cat' ;; esac
    command -v "$tool" >/dev/null 2>&1 || { gap "$1" "there is no $tool to unpack it with" 'who used privileges'; return 0; }
    which=$2
    if [ "$whole_logs" = true ]; then which=whole; fi
    log_name=$1
    log_member=logs/$log_count$log_suffix
    : > "$work/numbers"
    if ! within "$LOG_TIME" copy_log 2> "$work/complaint"; then gap "$1" "was not read within $LOG_TIME seconds" 'who used privileges'; rm -f "$work/bundle/$log_member"; return 0; fi
    [ ! -s "$work/complaint" ] || gap "$1" "could not be read to its end: $(head -n 1 "$work/complaint" | cut -c 1-100 | tr -d '\000-\037')" 'who used privileges'
    { read -r numbers; read -r log_bytes; read -r others; } < "$work/numbers" || { log_bytes=0 others=0; }
    if [ "${others:-0}" -gt 0 ]; then gap "$1" "$others lines of JSON speak of privilege, and are not copied (usage --log reads them)" 'who used privileges'; fi
    # Read with the rights of an account, it may have come in part or not at all: a packed one is not as long as what comes out of it.
    if [ -n "$who" ] && [ "$size" -gt 0 ] && { [ "${log_bytes:-0}" -eq 0 ] || { [ "$tool" = 'cat' ] && [ "$log_bytes" -lt "$size" ]; }; }; then
        gap "$1" 'was not read whole with the rights of the accounts that can write above it' 'who used privileges'
    fi
    if [ "${log_bytes:-0}" -ge "$LOG_TEXT_LIMIT" ]; then gap "$1" "is more than $LOG_TEXT_LIMIT bytes of text: the rest is not read" 'who used privileges'; fi
    kept_log "$1"
}
copy_log() { content_of "$LOG_TEXT_LIMIT" | unpacked "$log_name" | head -c "$LOG_TEXT_LIMIT" | chosen "$which" "$work/numbers" | masked shell "$work/account-names" | packed > "$work/bundle/$log_member"; }

# kept_log PATH: notes a log whose copy is $log_member and whose numbers are $numbers, unless it is too large.
kept_log() {
    log_size=$(wc -c < "$work/bundle/$log_member")
    if [ "$log_size" -gt "$LOG_LIMIT" ]; then
        gap "$1" "its lines on privilege are more than $LOG_LIMIT bytes, packed" 'who used privileges'
    elif [ $((logs_size + log_size)) -gt "$LOGS_LIMIT" ]; then
        gap "$1" "all logs together are more than $LOGS_LIMIT bytes, packed" 'who used privileges'
    else
        logs_size=$((logs_size + log_size))
        printf '%s\037%s\037%s\n' "$1" "$log_member" "$numbers" >> "$work/logs"
        return 0
    fi
    rm -f "$work/bundle/$log_member"
}

# log_family PATH WHICH: a log and the files that it was rotated into; they are read by read_families.
log_family() {
    want look 0 '' "$1"
    rule "$2" "$1" '' 1 "${1%/*}" "${1##*/}" "${1##*/}.[0-9]*" "${1##*/}-[0-9]*"
}
# In the order in which they were asked for.
read_families() {
    awk -F '\037' '!($2 in met) { met[$2]; print ++count "\037" $2 }' "$work/rules" > "$work/families"
    found_by "$work/rules" | awk -F '\037' -v OFS='\037' 'FILENAME == ARGV[1] { place[$2] = $1; next } { print place[$2], $1, $4 }' "$work/families" - |
        sort -t "$separator" -k 1,1n -k 3,3 > "$work/rotated"
    while IFS=$separator read -r _ which path; do
        want look 0 '' "$path"
        log "$path" "$which"
    done < "$work/rotated"
}

# Where sudo logs to, by its policy: a file of its own, or another facility of syslog.
sudo_logs() { grep '^[[:space:]]*Defaults' | sed -n 's/.*logfile[[:space:]]*=[[:space:]]*"*\(\/[^", ]*\).*/\1/p' | sort -u | head -n 20; }
# Where syslog writes what concerns privilege: rsyslog.conf(5), and syslog.conf(5) before it.
syslog_files() {
    awk -v facility="${1:-authpriv}" '
        /^[ \t]*[a-z*][a-z0-9,*;.=!-]*[ \t]+-?\// && $1 ~ ("(^|[,;])([*]|auth|authpriv|" facility ")[,.]") { sub(/^-/, "", $2); print $2 }
        /^[ \t]*(:programname|if .*programname).*\{[ \t]*$/ { others = $0 !~ /sudo|su[^a-z]|sshd|login|doas|auth/ }
        /^[ \t]*}/ { others = 0 }
        !others && /^[^#]*action\(/ && /omfile/ { if (match($0, /[fF]ile="[^"]*"/)) print substr($0, RSTART + 6, RLENGTH - 7) }' | head -n 200
}

# The journal, of the same programs; it knows who wrote a line, whatever the line says.
read_journal() {
    set -- --quiet --no-pager --all --output=json \
        --output-fields=@JOURNAL_FIELDS@
    for tag in @LOG_IDENTIFIERS@; do set -- "$@" "--identifier=$tag"; done
    if [ "$live" != true ]; then # file by file: journalctl itself would follow links
        inside /var/log/journal 2 '*.journal' | head -n 500 > "$work/journals"
        while IFS= read -r path; do
            locate "$path"
            if [ "$kind" = f ] && [ -z "$who" ] && [ "$left" != 1 ]; then set -- "$@" "--file=.$real"; has_journal=true
            else gap "$path" 'is a link, or can be replaced by others: not read' 'who used privileges'
            fi
        done < "$work/journals"
    elif [ -d ./var/log/journal ] || [ -d ./run/log/journal ]; then has_journal=true
    fi
    [ "$has_journal" = true ] || return 0
    command -v journalctl >/dev/null 2>&1 || { gap /var/log/journal 'there is no journalctl to read it with' 'who used privileges'; return 0; }
    log_member=logs/journal$log_suffix
    : > "$work/numbers"
    copy_journal() { journalctl "$@" < /dev/null | head -c "$LOG_TEXT_LIMIT" | masked json "$work/account-names" | chosen journal "$work/numbers" | packed > "$work/bundle/$log_member"; }
    within "$LOG_TIME" copy_journal "$@" 2> "$work/complaint" || gap /var/log/journal "was not read within $LOG_TIME seconds" 'who used privileges'
    [ ! -s "$work/complaint" ] || gap /var/log/journal "journalctl: $(head -n 1 "$work/complaint" | cut -c 1-100 | tr -d '\000-\037')" 'who used privileges'
    # How the first and last entry begin says nothing of when they were.
    numbers=$(awk -F '\037' 'NR == 1 { printf "%s\037%s\037\037\n", $1, $2 }' "$work/numbers")
    [ -z "$numbers" ] || kept_log /var/log/journal.json
}

# Records of logins are copied as they are; their files say by their names what they are.  Those of failed logins hold what was typed for a
# name, perhaps a password: they become lines of hexadecimal digits, since awk cannot be given bytes, with that in question marks.
failed_logins() {
    od -An -v -tx1 | awk -v accounts="$work/account-names" '
    BEGIN {
        for (code = 1; code < 256; code++) digits[sprintf("%c", code)] = sprintf("%02x", code)
        while ((getline name < accounts) > 0) {
            written = ""
            for (at = 1; at <= length(name) && at <= 32; at++) written = written digits[substr(name, at, 1)]
            known[written]
        }
    }
    {
        gsub(/ /, "")
        record = record $0
        if (length(record) < 768) next
        name = substr(record, 89, 64)
        for (at = 1; at < 64 && substr(name, at, 2) != "00"; at += 2) continue
        name = substr(name, 1, at - 1)
        if (!(name in known)) gsub(/../, "3f", name)
        print substr(record, 1, 88) name substr(record, 89 + length(name))
        record = ""
    }'
}
read_login_records() {
    for path in /var/log/wtmp /var/log/wtmp.1 /var/log/btmp /var/log/btmp.1 /var/log/lastlog; do
        want look 0 '' "$path"
        locate "$path"
        [ "$kind" = f ] || continue
        may_read "$path" || continue
        if [ -n "$who" ]; then gap "$path" 'lies below a folder that other accounts can write: not read' 'who logged in'; continue; fi
        if [ "$size" -gt "$FILE_LIMIT" ]; then gap "$path" "is larger than $FILE_LIMIT bytes" 'who logged in'; continue; fi
        log_member=logs/${path##*/}$log_suffix
        case $path in
            */btmp*)
                command -v od >/dev/null 2>&1 || { gap "$path" 'there is no od to mask with what was typed for a name' 'who failed to log in'; continue; }
                as_kept() { failed_logins; } ;;
            *) as_kept() { cat; } ;;
        esac
        copy_records() { content_of "$FILE_LIMIT" | as_kept | packed > "$work/bundle/$log_member"; }
        within 60 copy_records || { gap "$path" 'was not read within 60 seconds' 'who logged in'; rm -f "$work/bundle/$log_member"; continue; }
        numbers="0${separator}0${separator}${separator}"
        kept_log "$path"
    done
}

log_count=0 logs_size=0 has_journal=false host_zone=
read_logs() {
    # The time zone of the host's clock: most logs give times without it.
    locate /etc/localtime
    case $real in */zoneinfo/*) host_zone=${real#*/zoneinfo/} ;; esac
    want if 65536 whole /etc/timezone
    fetch
    if [ -z "$host_zone" ] && member /etc/timezone; then read -r host_zone < "$member" || :; fi
    printf '%s\n' "$host_zone" | cut -c 1-100 > "$work/zone"
    [ "$logs" = true ] || return 0
    : > "$work/logs-met"
    { printf 'root\n'; if member /etc/passwd; then cut -d : -f 1 < "$member"; fi; } > "$work/account-names"
    policy_text > "$work/policy-text"
    sudo_logs < "$work/policy-text" > "$work/own-logs"
    facility=$(grep '^[[:space:]]*Defaults' "$work/policy-text" | sed -n 's/.*[^!]syslog[[:space:]]*=[[:space:]]*"*\([a-z0-9]*\).*/\1/p' | tail -n 1)
    for path in /etc/rsyslog.conf /etc/syslog.conf; do want copy "$POLICY_LIMIT" masked "$path"; done
    want_all if "$POLICY_LIMIT" masked /etc/rsyslog.d 1 '*.conf'
    fetch
    {
        awk -F '\037' '$1 ~ /^\/etc\/r?syslog/ { print $2 }' "$work/members" | while IFS= read -r number; do cat "$work/bundle/files/$number"; done | syslog_files "$facility"
        for name in auth.log secure messages sulog; do printf '/var/log/%s\n' "$name"; done
    } | awk "$tidy"'/^\// { print tidied($0) }' | sort -u > "$work/syslog-logs"
    awk "$tidy"'{ print tidied($0) }' "$work/own-logs" > "$work/whole-logs"
    while IFS= read -r path; do log_family "$path" whole; done < "$work/whole-logs"
    while IFS= read -r path; do log_family "$path" syslog; done < "$work/syslog-logs"
    log_family /var/log/audit/audit.log audit
    read_families
    sort -u "$work/whole-logs" "$work/syslog-logs" > "$work/listing"
    listing log-files 'configuration of sudo and syslog'
    read_login_records
    read_journal
    fetch
}
