# -- passwords of databases that lie in files: where, by pattern; nothing of them is copied ---------------------------------------------

# A value that is a variable or a command is no password, and neither is an empty one.
in_options='^[[:space:]]*password[[:space:]]*=[[:space:]]*[^[:space:]#]'
in_lines='^[^#:]*:[^:]*:[^:]*:[^:]*:.'
in_scripts='(PGPASSWORD|MYSQL_PWD)=["'\'']?[^$"'\''`[:space:]]'
in_scripts="$in_scripts|(mysql|mysqldump|mysqladmin|mariadb|mariadb-dump|mariadb-admin)[[:space:]]([^|;&]*[[:space:]])?(-p|--password=[\"']?)[^\$\"'\`[:space:]]"
in_scripts="$in_scripts|(postgres|postgresql|mysql|mariadb)(\\+[a-z0-9]+)?://[^[:space:]:/@]+:[^[:space:]@\$/{]+@"
: > "$work/kept"

# kept KIND PATH PATTERN: notes a file of at most 2 MiB that has a line of the pattern.
kept() {
    resolve "$2" || return 0
    if [ ! -f "$root$real" ] || [ ! -r "$root$real" ]; then return 0; fi
    [ -n "$(find "$root$real" -prune -size -4096 2>/dev/null)" ] || return 0
    LC_ALL=C grep -Eqi -e "$3" "$root$real" 2>/dev/null || return 0
    printf '%s\t%s\n' "$1" "$2" >> "$work/kept"
    look "$2"
}

while IFS='	' read -r _ home; do
    kept 'option file' "${home%/}/.my.cnf" "$in_options"
    kept 'option file' "${home%/}/.mylogin.cnf" .
    kept 'password file' "${home%/}/.pgpass" "$in_lines"
done < "$work/homes"
for folder in /etc /etc/mysql /etc/mysql/conf.d /etc/mysql/mariadb.conf.d /etc/my.cnf.d; do
    for file in "$root$folder"/*.cnf; do kept 'option file' "$folder/${file##*/}" "$in_options"; done
done
for folder in /usr/local/bin /usr/local/sbin /etc/cron.d /etc/cron.hourly /etc/cron.daily /etc/cron.weekly /etc/cron.monthly /etc/default /etc/sysconfig; do
    for file in "$root$folder"/*; do kept script "$folder/${file##*/}" "$in_scripts"; done
done
while IFS= read -r named; do kept script "$named" "$in_scripts"; done < "$work/named"
{ printf 'read\n'; sort -u "$work/kept"; } > "$work/listing"
listing kept-passwords 'files with a password of a database, by pattern'
