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

: > "$work/kept"; : > "$work/copies.0"; : > "$work/keys.0"
# As many files are looked into for password hashes: those of a telling name first, then those next to the root folder.
COPIES_MANY=2000
read_passwords() {
    for folder in /etc /etc/mysql /etc/mysql/conf.d /etc/mysql/mariadb.conf.d /etc/my.cnf.d; do rule kept 2097152 'option file' 1 "$folder" '*.cnf'; done
    for folder in /usr/local/bin /usr/local/sbin /etc/cron.d /etc/cron.hourly /etc/cron.daily /etc/cron.weekly /etc/cron.monthly /etc/default /etc/sysconfig; do
        rule kept 2097152 script 1 "$folder" '*'
    done
    awk '{ print "kept\0372097152\037script\037" $0 }' "$work/roots-names" >> "$work/wanted"
    few "$work/copies.0" 'copies of the shadow file' 'who can read password hashes' | awk -F '\037' '$2 !~ /^\/etc\/(passwd|shadow|gshadow|group)$/ {
        print (tolower($2) ~ /shadow|passwd|backup|[.]bak|[.]old|hash|cred/ ? 0 : 1) "\037" $0 }' | sort -t "$separator" -k 1,1n -k 2,2n > "$work/copies"
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

# As many files are looked into of one owner who is not root: nobody can hide what another has behind files of their own.
FEW=200
# few FILE WHAT WEAKENS: prints "DEPTH PATH" of the paths in FILE that may be looked into, each there behind its owner and before a NUL.
few() {
    tr '\n\0' '\036\n' < "$1" | awk -v few="$FEW" -v what="$2" -v weakens="$3" -v gaps="$work/gaps" '
        /[\036\037]/ { next }
        {
            at = index($0, " "); owner = substr($0, 1, at - 1); path = substr($0, at + 2)
            if (owner != "0" && owner != "-" && ++count[owner] > few) {
                if (count[owner] == few + 1) print what "\037of uid " owner " there are more than " few " files that may be some: the rest was not looked into\037" weakens >> gaps
                next
            }
            print gsub("/", "/", path) "\037" path
        }'
}

# Private keys elsewhere than in homes and /etc/ssh: of those that the search found by name as many are looked into.
KEYS_ELSEWHERE=2000
read_keys() {
    few "$work/keys.0" 'private keys' 'which private keys lead to other accounts' | awk -F '\037' -v homes="$work/keys" '
        BEGIN { while ((getline line < homes) > 0) { split(line, part, "\t"); known[part[2]] } }
        { sub(/[.]pub$/, "", $2) }
        !($2 in known) { known[$2]; print $1 "\037" $2 }' | sort -t "$separator" -k 1,1n -k 2,2 | cut -d "$separator" -f 2- > "$work/keys.names"
    if [ "$(grep -c . "$work/keys.names")" -gt "$KEYS_ELSEWHERE" ]; then
        gap 'private keys' "there are more than $KEYS_ELSEWHERE files of such names: the rest was not looked into" 'which private keys lead to other accounts'
    fi
    cp "$work/keys" "$work/keys.homes"
    : > "$work/keys"
    head -n "$KEYS_ELSEWHERE" "$work/keys.names" | awk '{ print "key\03716384\037maybe\037" $0 }' >> "$work/wanted"
    fetch
    # Where the form does not tell the public half, it may lie beside.
    awk -F '\t' '$3 == "" { print "if\03765536\037public_lines\037" $2 ".pub" }' "$work/keys" >> "$work/wanted"
    fetch
    # Services have keys, too: those of SSH are kept.
    awk -F '\037' 'FILENAME == ARGV[1] { copied[$1]; next } { split($0, part, "\t") } part[3] != "" || ((part[2] ".pub") in copied)' "$work/members" "$work/keys" > "$work/keys.ssh"
    cat "$work/keys.homes" "$work/keys.ssh" > "$work/keys"
    cut -f 2 "$work/keys.ssh" | awk '{ print "look\0370\037\037" $0 }' >> "$work/wanted"
    fetch
    if [ -e "$work/bundle/listings/private-keys" ]; then cat "$work/keys" > "$work/bundle/listings/private-keys"
    else cp "$work/keys" "$work/listing"; listing private-keys 'private keys'
    fi
}
