# -- passwords of databases that are stored in files: where, by pattern; nothing of them is copied --------------------------------------

# kept_pattern KIND: sets $pattern to what marks a line with a password.  A variable, a command and nothing at all are none.
kept_pattern() {
    case $1 in
        'option file') pattern='^[[:space:]]*password[[:space:]]*=[[:space:]]*[^[:space:]#]' ;;
        'password file') pattern='^[^#:]*:[^:]*:[^:]*:[^:]*:.' ;;
        'any file') pattern=. ;;
        'password hashes') pattern='^[a-z_][^:]*:!?(\$[0-9a-z]+\$[^:]{8,}|_[./0-9A-Za-z]{19}|[./0-9A-Za-z]{13}):[0-9]*:' ;;
        *)
            pattern='(PGPASSWORD|MYSQL_PWD)=["'\'']?[^$"'\''`[:space:]]'
            pattern="$pattern|(mysql|mysqldump|mysqladmin|mariadb|mariadb-dump|mariadb-admin)[[:space:]]([^|;&]*[[:space:]])?(-p|--password=[\"']?)[^\$\"'\`[:space:]]"
            pattern="$pattern|(postgres|postgresql|mysql|mariadb)(\\+[a-z0-9]+)?://[^[:space:]:/@]+:[^[:space:]@\$/{]+@" ;;
    esac
}

: > "$work/kept"; : > "$work/copies.0"
# As many files are looked into for password hashes: those of a telling name first, then those next to the root folder.
COPIES_MANY=2000
read_passwords() {
    for folder in /etc /etc/mysql /etc/mysql/conf.d /etc/mysql/mariadb.conf.d /etc/my.cnf.d; do inside "$folder" 1 '*.cnf'; done > "$work/option-files"
    # Three sources, one after the other: each reads another list.
    # shellcheck disable=SC2129
    V="kept${separator}2097152${separator}option file" awk '{ print ENVIRON["V"] "\037" $0 }' "$work/option-files" >> "$work/wanted"
    {
        for folder in /usr/local/bin /usr/local/sbin /etc/cron.d /etc/cron.hourly /etc/cron.daily /etc/cron.weekly /etc/cron.monthly /etc/default /etc/sysconfig; do
            inside "$folder" 1 '*'
        done
        cat "$work/roots-names" 2>/dev/null
    } | sort -u | V="kept${separator}2097152${separator}script" awk '{ print ENVIRON["V"] "\037" $0 }' >> "$work/wanted"
    tr '\n\0' '\036\n' < "$work/copies.0" 2>/dev/null | sed 's/^\.//' | awk '!/[\036\037]/ && !/^\/etc\/(passwd|shadow|gshadow|group)$/ {
        print (tolower($0) ~ /shadow|passwd|backup|[.]bak|[.]old|hash|cred/ ? 0 : 1) "\037" gsub("/", "/") "\037" $0 }' |
        sort -t "$separator" -k 1,1n -k 2,2n > "$work/copies"
    if [ "$(grep -c '^0' "$work/copies")" -gt "$COPIES_MANY" ]; then
        gap 'copies of the shadow file' "there are more than $COPIES_MANY files of such a size and name: the rest was not looked into" 'who can read password hashes'
    fi
    head -n "$COPIES_MANY" "$work/copies" | cut -d "$separator" -f 3- | V="kept${separator}2097152${separator}password hashes" awk '{ print ENVIRON["V"] "\037" $0 }' >> "$work/wanted"
    fetch
    sed 's/^any file/option file/' "$work/kept" | sort -u > "$work/kept.sorted"
    cut -f 2- "$work/kept.sorted" | V="look${separator}0$separator" awk '{ print ENVIRON["V"] "\037" $0 }' >> "$work/wanted"
    fetch
    { printf 'read\n'; cat "$work/kept.sorted"; } > "$work/listing"
    listing kept-passwords 'files with a password of a database, by pattern'
}
