# Replaces the second field of account files.  What is kept: nothing at all (empty), x (passwd: see the shadow file), or in braces
# the state (usable, locked, none) and the method of crypt(5).
redacted() {
    awk -v shadowed="$1" '
    function method(hash) {
        if (hash ~ /^\$1\$/) return "md5"
        if (hash ~ /^\$2[abxy]?\$/) return "bcrypt"
        if (hash ~ /^\$5\$/) return "sha256"
        if (hash ~ /^\$6\$/) return "sha512"
        if (hash ~ /^\$7\$/) return "scrypt"
        if (hash ~ /^\$y\$/) return "yescrypt"
        if (hash ~ /^\$gy\$/) return "gost-yescrypt"
        if (hash ~ /^\$md5/) return "sunmd5"
        if (hash ~ /^\$3\$/) return "nt"
        if (hash ~ /^\$/) return "unknown"
        if (length(hash) == 13 && hash !~ /[^.\/0-9A-Za-z]/) return "des"
        if (length(hash) == 20 && hash ~ /^_/ && substr(hash, 2) !~ /[^.\/0-9A-Za-z]/) return "bsdi"
        return ""
    }
    function state(text,   locked, name) {
        if (text == "" || (shadowed == "x" && text == "x")) return text
        locked = 0
        while (substr(text, 1, 1) == "!") { locked = 1; text = substr(text, 2) }
        name = method(text)
        if (locked) return name == "" ? "{locked}" : "{locked " name "}"
        return name == "" ? "{none}" : "{usable " name "}"
    }
    {
        first = index($0, ":")
        if (first == 0) { print ($0 ~ /^[+-]?$/ ? $0 : "{malformed}"); next }
        rest = substr($0, first + 1)
        second = index(rest, ":")
        tail = second == 0 ? "" : substr(rest, second)
        if (second > 0) rest = substr(rest, 1, second - 1)
        print substr($0, 1, first) state(rest) tail
    }'
}
redacted_passwd() { redacted x; }
redacted_shadow() { redacted ''; }

if [ "$live" = true ] && [ -z "$root" ]; then
    host_name=$(uname -n)
    kernel=$(uname -srm)
else
    kernel=
    host_name=
    if resolve /etc/hostname && [ -r "$root$real" ] && [ -f "$root$real" ]; then
        host_name=$(awk '!/^#/ && NF { print $1; exit }' "$root$real")
    fi
fi
short_name=${host_name%%.*}

# The addresses of the interfaces that are up, loopback left out: sudo rules may name networks.  null where they cannot be had.
addresses=null
if [ -n "$kernel" ] && command -v ip >/dev/null 2>&1; then
    addresses=$(ip -o addr show up 2>/dev/null | awk '
        $2 != "lo" && ($3 == "inet" || $3 == "inet6") && $4 ~ /^[0-9a-fA-F.:\/]+$/ { list = list (list == "" ? "" : ", ") "\"" $4 "\"" }
        END { print "[" list "]" }')
fi

limit=$FILE_LIMIT
take /etc/os-release whole || take /usr/lib/os-release whole
take /etc/hostname whole
take /etc/passwd redacted_passwd
take /etc/group redacted_passwd
take /etc/shadow redacted_shadow
take /etc/gshadow redacted_shadow
take /etc/login.defs whole
take /etc/nsswitch.conf whole
take /etc/netgroup whole
