# -- logs: the lines that concern privilege, each at its number ------------------------------------------------------------------------

# A log keeps its number of lines: those that do not concern privilege are empty, so that a citation of file and line holds.
# The choice is made by what stands before the message: the tag of the program, the type of the record.
LOG_TAGS='sudo|su|sshd|sshd-session|login|useradd|usermod|userdel|groupadd|groupmod|groupdel|gpasswd|passwd|chpasswd|chage|chsh|chfn|newusers|pkexec|doas|CRON|cron|crond'
LOG_RECORDS='USER_CMD|USER_AUTH|USER_LOGIN|USER_START|USER_END|USER_CHAUTHTOK|USER_MGMT|USER_ACCT|GRP_MGMT|GRP_AUTH|ADD_USER|DEL_USER|ADD_GROUP|DEL_GROUP|ACCT_LOCK|ACCT_UNLOCK|CONFIG_CHANGE|DAEMON_START|DAEMON_END|DAEMON_ABORT|DAEMON_CONFIG'
# What a log may be, packed as it is in the bundle: some hundred million bytes of text.
LOG_LIMIT=33554432
LOG_FILES=2000
: > "$work/logs"
mkdir -p "$work/bundle/logs" || exit 3

# Passwords in command lines never leave the host.  What an option or variable of such a name is set to, and passwords in addresses.
secret='[A-Za-z0-9_-]*(password|passwd|passphrase|secret|token|api-?key|access-?key|credentials?)'
word="('[^']*'|\"[^\"]*\"|[^ '\"]+)"
masked() {
    sed -E -e "s/((^|[ '\"=])-{1,2}${secret}[= ])$word/\1[masked]/gI" -e "s/((^|[ '\"=])${secret}=)$word/\1[masked]/gI" -e 's/(PGPASSWORD|MYSQL_PWD)=[^ ]+/\1=[masked]/g' \
        -e 's|([a-z][a-z0-9+.-]*://[^ /:@]+:)[^ @/]+@|\1[masked]@|g' -e 's/((mysql|mysqldump|mysqladmin|mariadb|mariadb-dump) [^|;&]*-p)[^ ]+/\1[masked]/g' \
        -e 's/(curl [^|;&]*(-u|--user)[= ]+[^ :]+:)[^ ]+/\1[masked]/g' -e 's/(authorization: *(bearer|basic) +)[^ '"'"'"]+/\1[masked]/gI'
}
printf 'A=1\n' | sed -E -e 's/a/b/gI' > "$work/listing" 2>/dev/null
grep -q '^b=1' "$work/listing" || masked() { awk '{ if (tolower($0) ~ /passw|secret|token|credential|:\/\/[^ \/]*:/) gsub(/COMMAND=.*/, "COMMAND=[masked]"); print }'; }
: > "$work/listing"

# chosen WHICH NUMBERS: keeps the lines that concern privilege, and notes in NUMBERS how many there were, how many were kept, and how the
# first and the last of all begin: their times.
chosen() {
    awk -v which="$1" -v numbers="$2" -v tags=" ($LOG_TAGS)([[][0-9]+[]])?(:| [-0-9])" -v records="type=($LOG_RECORDS) " '
    NF { if (begins == "") begins = substr($0, 1, 40); ends = substr($0, 1, 40) }
    {
        keep = which == "whole" || (which == "syslog" && substr($0, 1, 160) ~ tags) || (which == "audit" && $0 ~ records)
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
        gsub(/\001/, "", begins)
        gsub(/\001/, "", ends)
        printf "%d\001%d\001%s\001%s\n", NR, kept, begins, ends > numbers
    }'
}
if command -v gzip >/dev/null 2>&1; then log_suffix=.gz; packed() { gzip -c; }
else log_suffix=; packed() { cat; }
fi
unpacked() {
    case $1 in
        *.gz) gzip -dc < "$1" ;;
        *.xz) xz -dc < "$1" ;;
        *.bz2) bzip2 -dc < "$1" ;;
        *.zst) zstd -dcq < "$1" ;;
        *) cat < "$1" ;;
    esac
}

# log PATH WHICH: the lines of one log that concern privilege (syslog, audit), or all of them (whole).
log() {
    first_visit log "$1" || return 0
    look "$1"
    resolve "$1" && [ -f "$root$real" ] || return 0
    if [ ! -r "$root$real" ]; then gap "$1" 'permission denied'; return 0; fi
    log_count=$((log_count + 1))
    [ "$log_count" -le "$LOG_FILES" ] || { gap "$1" "more than $LOG_FILES files of logs"; return 0; }
    case $1 in *.gz) tool=gzip ;; *.xz) tool=xz ;; *.bz2) tool=bzip2 ;; *.zst) tool=zstd ;; *) tool='cat' ;; esac
    command -v "$tool" >/dev/null 2>&1 || { gap "$1" "there is no $tool to unpack it with"; return 0; }
    if [ "$whole_logs" = true ]; then set -- "$1" whole; fi
    log_member=logs$1$log_suffix
    mkdir -p "$work/bundle/${log_member%/*}"
    : > "$work/numbers"
    { unpacked "$root$real" | chosen "$2" "$work/numbers" | masked | packed > "$work/bundle/$log_member"; } 2>"$work/complaint"
    [ ! -s "$work/complaint" ] || gap "$1" "could not be read to its end: $(head -n 1 "$work/complaint" | cut -c 1-100 | tr -d '\000-\037')"
    kept_log "$1"
}

# kept_log PATH: notes a log whose copy is $log_member, unless it is too large.
kept_log() {
    if [ -n "$(find "$work/bundle/$log_member" -prune -size "+${LOG_LIMIT}c" 2>/dev/null)" ]; then
        rm -f "$work/bundle/$log_member"
        gap "$1" "its lines on privilege are more than $LOG_LIMIT bytes, packed"
        return 0
    fi
    printf '%s\001%s\001%s\n' "$1" "$log_member" "$(cat "$work/numbers")" >> "$work/logs"
}

# log_family PATH WHICH: a log and the files that it was rotated into.
log_family() {
    resolve "${1%/*}" && [ -d "$root$real/" ] || return 0
    if [ ! -x "$root$real/" ]; then gap "$1" 'permission denied'; return 0; fi
    (cd "$root$real" && find . -maxdepth 1 -type f \( -name "${1##*/}" -o -name "${1##*/}.[0-9]*" -o -name "${1##*/}-[0-9]*" \) 2>/dev/null) |
        sort > "$work/rotated"
    while IFS= read -r name; do log "${1%/*}/${name#./}" "$2"; done < "$work/rotated"
}

log_count=0
if [ "$logs" = true ]; then
    # Where sudo logs to, by its policy: a file of its own, or another facility of syslog.
    policy_options=$(find "$work/bundle/files" -type f -path '*sudo*' -exec cat {} + 2>/dev/null | grep '^[[:space:]]*Defaults')
    facility=$(printf '%s\n' "$policy_options" | sed -n 's/.*[^!]syslog[[:space:]]*=[[:space:]]*"*\([a-z0-9]*\).*/\1/p' | tail -n 1)
    printf '%s\n' "$policy_options" | sed -n 's/.*logfile[[:space:]]*=[[:space:]]*"*\(\/[^", ]*\).*/\1/p' | sort -u > "$work/own-logs"
    # Where syslog writes what concerns privilege: rsyslog.conf(5), and syslog.conf(5) before it.
    : > "$work/syslog-files"
    for file in "$root"/etc/rsyslog.conf "$root"/etc/syslog.conf "$root"/etc/rsyslog.d/*.conf; do
        [ -f "$file" ] && [ -r "$file" ] && take "${file#"$root"}" whole && cat "$file"
    done 2>/dev/null | awk -v facility="${facility:-authpriv}" '
        /^[ \t]*[a-z*][a-z0-9,*;.=!-]*[ \t]+-?\// && $1 ~ ("(^|[,;])([*]|auth|authpriv|" facility ")[,.]") { sub(/^-/, "", $2); print $2 }
        /^[^#]*action\(/ && /omfile/ { if (match($0, /[fF]ile="[^"]*"/)) print substr($0, RSTART + 6, RLENGTH - 7) }' > "$work/syslog-files"
    for name in auth.log secure messages sulog; do printf '/var/log/%s\n' "$name"; done >> "$work/syslog-files"
    while IFS= read -r path; do tidy "$path"; log_family "$tidied" whole; done < "$work/own-logs"
    sort -u "$work/syslog-files" > "$work/syslog-unique"
    while IFS= read -r path; do tidy "$path"; log_family "$tidied" syslog; done < "$work/syslog-unique"
    log_family /var/log/audit/audit.log audit
    # Records of log-ins are copied as they are; their files say by their names what they are.
    for path in /var/log/wtmp /var/log/wtmp.1 /var/log/btmp /var/log/btmp.1 /var/log/lastlog; do
        look "$path"
        if ! resolve "$path" || [ ! -f "$root$real" ] || [ ! -r "$root$real" ]; then continue; fi
        if [ -n "$(find "$root$real" -prune -size "+${FILE_LIMIT}c" 2>/dev/null)" ]; then gap "$path" "is larger than $FILE_LIMIT bytes"; continue; fi
        log_member=logs$path$log_suffix
        mkdir -p "$work/bundle/logs/var/log"
        packed < "$root$real" > "$work/bundle/$log_member"
        printf '0\0010\001\001\n' > "$work/numbers"
        kept_log "$path"
    done
    # The journal, of the same programs; it knows who wrote a line, whatever the line says.
    if [ -d "$root/var/log/journal/" ] || { [ -z "$root" ] && [ -d /run/log/journal/ ]; }; then
        if command -v journalctl >/dev/null 2>&1; then
            set -- --quiet --no-pager --all --output=json \
                --output-fields=MESSAGE,SYSLOG_IDENTIFIER,_HOSTNAME,_PID,SYSLOG_PID,_COMM,_UID,_AUDIT_LOGINUID,_SOURCE_REALTIME_TIMESTAMP
            [ -z "$root" ] || set -- "$@" "--directory=$root/var/log/journal"
            for tag in $(printf '%s' "$LOG_TAGS" | tr '|' ' '); do set -- "$@" "--identifier=$tag"; done
            log_member=logs/var/log/journal.json$log_suffix
            mkdir -p "$work/bundle/logs/var/log"
            { journalctl "$@" < /dev/null | masked | chosen whole "$work/numbers" | packed > "$work/bundle/$log_member"; } 2>"$work/complaint"
            [ ! -s "$work/complaint" ] || gap /var/log/journal "journalctl: $(head -n 1 "$work/complaint" | cut -c 1-100 | tr -d '\000-\037')"
            # How the first and last entry begin says nothing of when they were.
            awk -F '\001' '{ printf "%s\001%s\001\001\n", $1, $2 }' "$work/numbers" > "$work/listing" && mv "$work/listing" "$work/numbers"
            kept_log /var/log/journal.json
        else
            gap /var/log/journal 'there is no journalctl to read it with'
        fi
    fi
fi

# The time zone of the host's clock: most logs tell times without it.
host_zone=
if resolve /etc/localtime; then
    case $real in */zoneinfo/*) host_zone=${real#*/zoneinfo/} ;; esac
fi
if [ -z "$host_zone" ] && resolve /etc/timezone && [ -f "$root$real" ] && [ -r "$root$real" ]; then read -r host_zone < "$root$real" || :; fi
