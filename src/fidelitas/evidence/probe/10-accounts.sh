# -- accounts ---------------------------------------------------------------------------------------------------------------------------

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

# What is asked for anyway is looked at together: a process each would take longer than all the rest.
expect() {
    for path in /etc/shadow /etc/gshadow /etc/hostname /etc/login.defs /etc/os-release /usr/lib/os-release /etc/netgroup /etc/machine-id /etc/ssh \
        /etc/sudo.conf /etc/sudoers /etc/sudoers.d /etc/crontab /etc/anacrontab /etc/cron.d /etc/cron.hourly /etc/cron.daily /etc/cron.weekly \
        /etc/cron.monthly /etc/init.d /var/spool/cron/crontabs /var/spool/cron/tabs /var/spool/cron/atjobs /var/spool/at /etc/systemd/system \
        /run/systemd/system /usr/local/lib/systemd/system /usr/lib/systemd/system /lib/systemd/system /etc/ld.so.conf.d /etc/profile.d /etc/zsh \
        /etc/polkit-1/rules.d /usr/share/polkit-1/rules.d /usr/share/polkit-1/actions /etc/exports.d /etc/sysctl.d /etc/ssh/sshd_config.d \
        /etc/pam.d /etc/security /var/lib/dpkg/info /var/lib/dpkg/status /var/lib/dpkg/statoverride /var/lib/rpm /usr/lib/sysimage/rpm \
        /var/log/journal /var/log/audit /etc/rsyslog.d /etc/mysql/conf.d /etc/mysql/mariadb.conf.d /etc/my.cnf.d /usr/local/bin /usr/local/sbin \
        /etc/default /etc/sysconfig /run/utmp /run/log/journal $TREES; do printf '%s\n' "$path"; done > "$work/expected"
    walk "$work/expected"
}

read_accounts() {
    if [ "$live" = true ]; then
        host_name=$(uname -n)
        kernel=$(uname -srm)
    fi
    for path in /etc/passwd /etc/group; do want copy "$FILE_LIMIT" redacted_passwd "$path"; done
    want copy "$FILE_LIMIT" whole /etc/nsswitch.conf
    fetch
    learn_accounts
    : > "$work/walked" # who can be in which group is known only now
    expect
    for path in /etc/shadow /etc/gshadow; do want copy "$FILE_LIMIT" redacted_shadow "$path"; done
    for path in /etc/os-release /etc/hostname /etc/login.defs; do want copy "$POLICY_LIMIT" whole "$path"; done
    want if "$POLICY_LIMIT" whole /usr/lib/os-release
    want copy "$FILE_LIMIT" whole /etc/netgroup
    want_records
    want_directories
    for path in /etc/selinux/config /etc/selinux/targeted/seusers /etc/selinux/strict/seusers /etc/selinux/mls/seusers /etc/selinux/minimum/seusers /etc/selinux/default/seusers; do
        want if "$POLICY_LIMIT" whole "$path"
    done
    for path in /etc/subuid /etc/subgid /etc/hosts.equiv /etc/shosts.equiv /etc/ssh/shosts.equiv /root/.rhosts /root/.shosts /root/.k5login /root/.k5users; do
        want if "$POLICY_LIMIT" whole "$path"
    done
    fetch
    if [ "$live" != true ] && member /etc/hostname; then host_name=$(awk '!/^#/ && NF { print substr($1, 1, 253); exit }' "$member"); fi
    short_name=${host_name%%.*}
    # The addresses of the interfaces that are up, loopback left out: sudo rules may name networks.  null where they cannot be had.
    if [ "$live" = true ] && command -v ip >/dev/null 2>&1; then
        addresses=$(within 20 ip -o addr show up 2>/dev/null < /dev/null | awk '
            $2 != "lo" && ($3 == "inet" || $3 == "inet6") && $4 ~ /^[0-9a-fA-F.:\/]+$/ { list = list (list == "" ? "" : ", ") "\"" $4 "\"" }
            END { print "[" list "]" }')
    fi
    read_identity > "$work/identity"
    { printf '%s\n' "$kernel"; printf '%s\n' "$addresses"; printf '%s\n' "$host_name"; } > "$work/head"
}

# Accounts and groups that systemd knows of by records of its own, where they are looked up (nss-systemd(8)); an empty file can say a membership.
want_records() {
    member /etc/nsswitch.conf || return 0
    grep -Eq '^[[:space:]]*(passwd|group):.*[[:space:]]systemd' "$member" || return 0
    for folder in /etc/userdb /run/userdb /run/host/userdb /usr/local/lib/userdb /usr/lib/userdb /var/lib/systemd/home; do
        rule if "$POLICY_LIMIT" masked_record 1 "$folder" '*.user' '*.group' '*.identity'
        rule seen 0 '' 1 "$folder" '*.membership' '*.user-privileged' '*.group-privileged'
    done
}

# Which directory a host asks: of these files the lines that say so alone, since others hold passwords; the lines keep their numbers.
directory_lines() {
    awk '
    /^[ \t]*\[[^]]*\][ \t\r]*$/ { print; next }
    tolower($0) ~ /^[ \t]*(domains|enabled|id_provider|sudo_provider|access_provider|ad_domain|ipa_domain|krb5_realm|realm|use_fully_qualified_names|full_name_format|ldap_id_mapping|simple_(allow|deny)_(users|groups)|(ad|ldap)_access_filter|workgroup|winbind (use default domain|separator|normalize names)|idmap config [^=]*(backend|range|base_rid)|ldap_[a-z_]*search_base|ldap_schema|ldap_group_nesting_level|ldap_group_member|ldap_access_order|(min|max)_id|filter_(users|groups)|override_(gid|space)|default_domain_suffix|ldap_use_tokengroups|auto_private_groups|ldap_idmap_[a-z_]*|ad_gpo_access_control|case_sensitive|ldap_sudo_include_regexp|ldap_(user|group)_(object_class|name|uid_number|gid_number))[ \t]*=/ { print; next }
    tolower($0) ~ /^[ \t]*(base|sudoers_base|sudoers_search_filter|scope|filter|map|validnames|ignorecase|pam_authz_search|nss_(min_uid|nested_groups|uid_offset|gid_offset))[ \t]/ { print; next }
    { print "" }'
}
want_directories() {
    member /etc/nsswitch.conf || return 0
    grep -Eq '^[[:space:]]*(passwd|group|sudoers):.*[[:space:]](sss|ldap|winbind)' "$member" || return 0
    for path in /etc/sssd/sssd.conf /etc/nslcd.conf /etc/sudo-ldap.conf /etc/ldap.conf /etc/ldap/ldap.conf /etc/openldap/ldap.conf /etc/samba/smb.conf; do
        want if "$POLICY_LIMIT" directory_lines "$path"
    done
    rule if "$POLICY_LIMIT" directory_lines 1 /etc/sssd/conf.d '*.conf'
}

# What tells this machine from another of the same name: digests of its machine-id(5) and of its public host keys, which tell nothing else.
digest() {
    if command -v sha256sum >/dev/null 2>&1; then sha256sum | cut -c 1-64
    elif command -v shasum >/dev/null 2>&1; then shasum -a 256 | cut -c 1-64
    elif command -v openssl >/dev/null 2>&1; then openssl dgst -sha256 -r | cut -c 1-64
    else cat > /dev/null
    fi
}
read_identity() {
    want if 4096 whole /etc/machine-id
    rule if 65536 public_lines 1 /etc/ssh 'ssh_host_*_key.pub'
    fetch
    machine_id=
    if member /etc/machine-id; then read -r machine_id < "$member" || :; fi
    case $machine_id in
        *[!0-9a-f]* | '') ;;
        *) printf 'machine %s\n' "$(printf 'fidelitas machine %s' "$machine_id" | digest)" ;;
    esac
    # The identifier itself is not to be handed on (machine-id(5)).
    if member /etc/machine-id; then : > "$member"; fi
    awk -F '\037' '$1 ~ /^\/etc\/ssh\/ssh_host_.*[.]pub$/ { print $2 }' "$work/members" | while IFS= read -r number; do
        awk 'NF > 1 { print $1, $2; exit }' "$work/bundle/files/$number"
    done | sort -u | head -n 20 | while IFS= read -r line; do printf 'key %s\n' "$(printf 'fidelitas host key %s' "$line" | digest)"; done
}
host_name='' short_name='' kernel='' addresses=null
