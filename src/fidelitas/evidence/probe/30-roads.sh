# -- logins: what sshd accepts, keys, and what PAM asks ---------------------------------------------------------------------------------

# sshd_includes FILE: prints the patterns of the files that a configuration file includes (sshd_config(5), Include).
sshd_includes() {
    awk "$tidy"'tolower($1) == "include" || tolower($1) ~ /^include=/ {
        sub(/^[ \t]*[A-Za-z]+[ \t=]+/, ""); gsub(/"/, ""); count = split($0, word, /[ \t]+/)
        for (at = 1; at <= count; at++) if (word[at] != "") print tidied(word[at] ~ /^\// ? word[at] : "/etc/ssh/" word[at]) }' "$1"
}

# The configuration of sshd, level by level; sshd itself stops at 16.
read_sshd() {
    printf '/etc/ssh/sshd_config\n' > "$work/level"
    : > "$work/met"
    for _ in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16; do
        [ -s "$work/level" ] || break
        while IFS= read -r path; do want copy "$POLICY_LIMIT" masked "$path"; done < "$work/level"
        fetch
        cat "$work/level" >> "$work/met"
        while IFS= read -r path; do if member "$path"; then sshd_includes "$member"; fi; done < "$work/level" | sort -u | head -n "$FILES_LIMIT" > "$work/patterns"
        while IFS= read -r pattern; do
            case ${pattern%/*} in
                *[*?[]*) gap "$pattern" 'a pattern in the name of a folder: not followed' 'what sshd accepts' ;;
                *)
                    want look 0 '' "${pattern%/*}/."
                    inside "${pattern%/*}" 1 "${pattern##*/}" ;;
            esac
        done < "$work/patterns" > "$work/next"
        awk 'FILENAME == ARGV[1] { met[$0]; next } !($0 in met) { met[$0]; print }' "$work/met" "$work/next" | head -n "$FILES_LIMIT" > "$work/level"
    done
    fetch
}

# Only lines that are public keys: what else may be in such a file is nobody's business.
public_lines() { awk '{ print /^(ssh-|ecdsa-|sk-ssh-|sk-ecdsa-)/ ? $0 : "" }'; }
# As many files of one folder of keys are looked at; honest ones hold a dozen.
KEYS_MANY=200
KEYS_LIMIT=1048576
HOMES_MANY=20000

# homes: "NAME UID HOME" of each account.
homes() {
    member /etc/passwd || return 0
    awk -F : -v OFS='\037' -v most="$HOMES_MANY" "$tidy"'
        $1 == "" || $1 ~ /^[#+-]/ || $6 ~ /[\036\037]/ { next }
        ++count <= most { print $1, $3, (substr($6, 1, 1) == "/" ? tidied($6) : "/") }' "$member"
    [ "$(awk 'END { print NR }' "$member")" -le "$HOMES_MANY" ] || gap 'authorized keys' "more than $HOMES_MANY accounts: the keys of the rest were not read" 'whose keys open which accounts'
}

# The files in which sshd looks for the keys of an account: sshd_config(5), AuthorizedKeysFile.  Keys, and passwords of databases, in homes.
read_homes() {
    awk -F '\037' '$1 ~ /^\/etc\/ssh\/sshd_config/ { print $2 }' "$work/members" | while IFS= read -r number; do
        awk 'tolower($1) ~ /^authorized(keys|principals)file$/ { for (at = 2; at <= NF; at++) if ($at !~ /^"?none"?$/) { gsub(/"/, "", $at); print $at } }' "$work/bundle/files/$number"
    done | sort -u | head -n 50 > "$work/key-files"
    # Keys that sign others, and programs that say whose keys open an account.
    : > "$work/key-programs"
    awk -F '\037' '$1 ~ /^\/etc\/ssh\/sshd_config/ { print $2 }' "$work/members" | while IFS= read -r number; do
        awk -v limit="$KEYS_LIMIT" -v programs="$work/key-programs" 'tolower($1) == "trustedusercakeys" && $2 ~ /^\// { print "if\037" limit "\037public_lines\037" $2 }
            tolower($1) ~ /^authorized(keys|principals)command$/ && $2 ~ /^\// { print "if\03765536\037masked\037" $2; print $2 >> programs }
            tolower($1) ~ /^(include|forcecommand|subsystem|authorizedprincipalsfile)$/ { for (at = 2; at <= NF; at++) if ($at ~ /^\/[^*?%]*$/) print "look\0370\037\037" $at }' "$work/bundle/files/$number"
    done | sort -u | head -n 200 >> "$work/wanted"
    homes > "$work/all-homes"
    awk -F '\037' -v OFS='\037' -v limit="$KEYS_LIMIT" '
        BEGIN { pattern[++patterns] = ".ssh/authorized_keys"; pattern[++patterns] = ".ssh/authorized_keys2" }
        FILENAME == ARGV[1] { pattern[++patterns] = $0; next }
        function replaced(text, token, value,   out, at) {
            while ((at = index(text, token)) > 0) { out = out substr(text, 1, at - 1) value; text = substr(text, at + 2) }
            return out text
        }
        {
            home = $3 == "/" ? "" : $3
            for (at = 1; at <= patterns; at++) {
                path = pattern[at]
                if (path ~ /%/) path = replaced(replaced(replaced(replaced(replaced(path, "%%", "\036"), "%u", $1), "%h", $3), "%U", $2), "\036", "%")
                if (path !~ /^[\/]/) path = home "/" path
                print "if", limit, "masked", path
                folder = path; sub(/[\/][^\/]*$/, "", folder)
                if (index(folder "/", home "/") != 1 && folder != "" && !(folder in met)) { met[folder]; print "seen", 0, "", folder }
            }
            if (home == "" || home in met) next
            met[home]
            print "seen", 0, "", home
            print "seen", 0, "", home "/.ssh"
            print "kept", 2097152, "option file", home "/.my.cnf"
            print "kept", 2097152, "any file", home "/.mylogin.cnf"
            print "kept", 2097152, "password file", home "/.pgpass"
        }' "$work/key-files" "$work/all-homes" >> "$work/wanted"
    fetch
    # A program that says whose keys open an account may read a file for each, by a name that it makes.
    awk -F '\037' -v folder="$work/bundle/files/" '
        FILENAME == ARGV[1] { copy[$1] = folder $2; next }
        { split($0, word, /[ \t"]+/); if (word[1] in copy) while ((getline line < copy[word[1]]) > 0) print line }' "$work/members" "$work/key-programs" |
        grep -o '/[A-Za-z0-9._/+@-]*/["'\'']\{0,1\}[$]' | sed 's/\/["'\'']\{0,1\}[$]$//' | sort -u | head -n 20 > "$work/made-names"
    while IFS= read -r folder; do want_all seen 0 '' "$folder" 1 '*'; done < "$work/made-names"
    # The homes that are there, and the files of their folders of keys.
    awk -F '\037' -v OFS='\t' 'FILENAME == ARGV[1] { kind[$1] = $2; next } kind[$3] == "d" && $3 != "/" { print $1, $3 }' "$work/walked" "$work/all-homes" > "$work/homes"
    home_files
    { printf 'read\n'; cat "$work/homes"; } > "$work/listing"
    listing homes 'homes of the accounts'
    want_keys
    fetch
}

# Files of homes that shells and programs read: their states, and of shells what they name.  Of as many homes.
HOMES_LOOKED=3000
home_files() {
    cut -f 2 "$work/homes" | sort -u | head -n "$HOMES_LOOKED" | sed 's/^/./' | tr '\n' '\0' > "$work/homes.0"
    [ -s "$work/homes.0" ] || return 0
    rc_names() {
        xargs -0 sh -c 'exec find "$@" -maxdepth 3 -xdev \( -path "*/.config/systemd/*" -o -path "*/.ssh/*" -o -path "*/.local/*/*" -o -path "*/.cache" -o -path "*/.git/*" \) ! -name user ! -name rc ! -name environment ! -name config -prune -o \( \
            -name ".*profile" -o -name ".bash_log*" -o -name ".bashrc" -o -name ".zsh*" -o -name ".zlog*" -o -name ".*shrc" -o -name ".log*" -o -name ".xsession*" -o -name ".xinitrc" -o -name ".inputrc" \
            -o -name "config.fish" -o -name fish -o -name ".pam_environment" -o -name environment -o -name rc -o -name config -o -name ".[rs]hosts" -o -name ".k5*" -o -name ".forward" -o -name ".vim*" -o -name ".exrc" \
            -o -name ".nanorc" -o -name ".emacs*" -o -name ".gdbinit" -o -name ".lesskey" -o -name ".gitconfig" -o -name ".screenrc" -o -name ".tmux.conf" -o -name nvim -o -name systemd -o -name user -o -name autostart \
            -o -name "environment.d" -o -name bin -o -name ".config" -o -name ".local" \) -print0' find < "$work/homes.0" 2>/dev/null
    }
    within 120 rc_names > "$work/rc.0" || gap 'homes' 'their start-up files could not be looked for in time' 'who can change what an account runs'
    tr '\n\0' '\036\n' < "$work/rc.0" | sed 's/^\.//' | head -n 100000 | awk '/[\036\037]/ { next } {
        print "seen\0370\037\037" $0
        name = $0; sub(/.*\//, "", name)
        if (name ~ /^[.](profile|bash_profile|bash_login|bashrc|zshenv|zprofile|zshrc|kshrc)$/) print "if\03765536\037path_lines\037" $0
    }' >> "$work/wanted"
    fetch
}

# want_keys: asks for every file of the folders of keys: whether it is a private key; of public ones, by which it is known on other hosts, a copy.
want_keys() {
    awk -F '\037' 'FILENAME == ARGV[1] { if ($2 == "d" && $6 != 1) real[$1] = $3; next } ($3 "/.ssh") in real { print real[$3 "/.ssh"] "\037" $3 "/.ssh" }' \
        "$work/walked" "$work/all-homes" | sort -u > "$work/key-folders"
    awk -F '\037' '!($1 in seen) { seen[$1]; printf ".%s%c", $1, 0 }' "$work/key-folders" > "$work/key-folders.0"
    [ -s "$work/key-folders" ] || return 0
    cut -d "$separator" -f 1 "$work/key-folders" | sort -u | sed 's/^/./' | tr '\n' '\0' > "$work/key-folders.0"
    key_names() { xargs -0 sh -c 'exec find "$@" -mindepth 1 -maxdepth 1 ! -type d -print0' find < "$work/key-folders.0" 2>/dev/null; }
    within 120 key_names > "$work/inside.0" || gap 'private keys' 'the folders of keys could not be searched in time' 'which private keys lead to other hosts'
    tr '\n\0' '\036\n' < "$work/inside.0" | awk -F '\037' -v OFS='\037' -v limit="$KEYS_LIMIT" -v most="$KEYS_MANY" -v gaps="$work/gaps" '
        FILENAME == ARGV[1] { paths[$1] = paths[$1] == "" ? $2 : paths[$1] SUBSEP $2; next }
        /[\036\037]/ { next }
        {
            name = $0; sub(/.*[\/]/, "", name)
            folder = substr($0, 2, length($0) - length(name) - 2)
            if (++count[folder] > most) {
                if (count[folder] == most + 1) print folder, "holds more than " most " files: the rest is not read", "which private keys are there" >> gaps
                next
            }
            number = split(paths[folder], path, SUBSEP)
            for (at = 1; at <= number; at++) {
                print "key", limit, "", path[at] "/" name
                if (name ~ /[.]pub$/) print "if", limit, "public_lines", path[at] "/" name
            }
        }' "$work/key-folders" - >> "$work/wanted"
}

: > "$work/keys"
read_logins() {
    read_sshd
    want_all if "$POLICY_LIMIT" masked /etc/pam.d 1 '*'
    want_all if "$POLICY_LIMIT" masked /etc/security 2 '*.conf'
    fetch
    read_homes
    rule if 1048576 public_lines 1 /etc/ssh '*.pub'
    inside /etc/ssh 1 '*[!b]' | grep -v 'config\|moduli\|[.]pub$' | awk '{ print "key\0371048576\037\037" $0 }' >> "$work/wanted"
    fetch
    cp "$work/keys" "$work/listing"
    listing private-keys 'private keys'
}

# -- what root runs ----------------------------------------------------------------------------------------------------------------------

# Commands, secrets masked; the values of variables left out but for those that say where and what runs.
without_values() {
    awk '/^[ \t]*[A-Za-z_][A-Za-z0-9_]*[ \t]*=/ && !/^[ \t]*(PATH|SHELL|MAILTO|HOME|LOGNAME|RANDOM_DELAY|START_HOURS_RANGE|BASH_ENV|ENV|LD_[A-Z_]*|PERL5LIB|PYTHONPATH)[ \t]*=/ {
        sub(/=.*/, "=[not copied]") } { print }' | masked
}
unit_lines='
    FNR == 1 { going = 0; last = "" }
    /^[ \t]*(Environment|PassEnvironment|SetCredential)[A-Za-z]*[ \t]*=/ && !/^[ \t]*EnvironmentFile/ {
            last = $0; code = ""
            while (match($0, /(PATH|LD_PRELOAD|LD_LIBRARY_PATH|LD_AUDIT|PYTHONPATH|PYTHONSTARTUP|PERL5LIB|RUBYLIB|BASH_ENV|NODE_PATH)=[^" \t\047]*/)) { code = code " " substr($0, RSTART, RLENGTH); $0 = substr($0, RSTART + RLENGTH) }
            name = last; sub(/=.*/, "=", name); going = 1; print name (code == "" ? "[not copied]" : substr(code, 2)); next }
        going && last ~ /\\$/ { last = $0; print ""; next }
        { going = 0; print }
        { last = $0 }'
unit_lines() { awk "$unit_lines" | masked; }
# Of shell start-up files only what says where programs are taken from; the other lines are empty, so that line numbers hold.
path_lines() { awk '{ print /(^|[ \t;])(export[ \t]+)?PATH\+?=|(^|[ \t;&|])(\.|source)[ \t]+[~\/$]|(^|[;&|])[ \t]*(exec[ \t]+)?\/[^ \t]+/ ? $0 : "" }' | masked; }

# A crontab of an account: as many bytes of it are read, since each account writes its own.
CRONTAB_LIMIT=262144
read_jobs() {
    want copy "$POLICY_LIMIT" without_values /etc/crontab
    want copy "$POLICY_LIMIT" without_values /etc/anacrontab
    want_all if "$POLICY_LIMIT" without_values /etc/cron.d 1 '*'
    for folder in /var/spool/cron /var/spool/cron/crontabs /var/spool/cron/tabs; do want_all if "$CRONTAB_LIMIT" without_values "$folder" 1 '*'; done
    for path in /etc/docker/daemon.json /etc/libvirt/libvirtd.conf /etc/libvirt/virtqemud.conf /etc/libvirt/virtproxyd.conf /etc/rsyncd.conf; do
        want if "$POLICY_LIMIT" masked "$path"
    done
    rule if 65536 masked 1 /etc/udev/rules.d '*.rules'
    for folder in /var/spool/cron/atjobs /var/spool/at; do want_all if "$CRONTAB_LIMIT" without_values "$folder" 1 '*'; done
    for file in /etc/cron.allow /etc/cron.deny /etc/at.allow /etc/at.deny; do want copy "$POLICY_LIMIT" whole "$file"; done
    : > "$work/unit-folders"
    for folder in /etc/systemd/system /run/systemd/system /usr/local/lib/systemd/system /usr/lib/systemd/system /lib/systemd/system; do
        locate "$folder"
        if grep -qxF -e "$real" "$work/unit-folders"; then continue; fi # /lib is /usr/lib on most hosts
        printf '%s\n' "$real" >> "$work/unit-folders"
        want_all if "$POLICY_LIMIT" unit_lines "$folder" 2 '*.service' '*.socket' '*.timer' '*.path' '*.conf'
    done
    want copy "$POLICY_LIMIT" whole /etc/ld.so.preload
    want copy "$POLICY_LIMIT" whole /etc/ld.so.conf
    want_all if "$POLICY_LIMIT" whole /etc/ld.so.conf.d 1 '*.conf'
    for file in /root/.profile /root/.bash_profile /root/.bash_login /root/.bashrc /root/.zshrc /root/.kshrc /etc/profile /etc/bash.bashrc \
        /etc/bashrc /etc/environment /etc/zsh/zshenv; do want copy "$POLICY_LIMIT" path_lines "$file"; done
    want_all if "$POLICY_LIMIT" path_lines /etc/profile.d 1 '*.sh'
    want_all if "$POLICY_LIMIT" masked /etc/polkit-1 3 '*.rules' '*.conf' '*.pkla'
    want_all if "$POLICY_LIMIT" masked /usr/share/polkit-1/rules.d 1 '*.rules'
    want_all if "$POLICY_LIMIT" whole /usr/share/polkit-1/actions 1 '*.policy'
    want copy "$POLICY_LIMIT" masked_doas /etc/doas.conf
    want copy "$POLICY_LIMIT" masked /etc/exports
    want_all if "$POLICY_LIMIT" masked /etc/exports.d 1 '*.exports'
    want copy "$POLICY_LIMIT" whole /etc/sysctl.conf
    want_all if "$POLICY_LIMIT" whole /etc/sysctl.d 1 '*.conf'
    fetch
}

# Programs that root runs because they are in a folder; their first lines name their interpreters.
programs_in_folders() {
    for folder in /etc/cron.hourly /etc/cron.daily /etc/cron.weekly /etc/cron.monthly /etc/init.d /var/spool/cron/atjobs /var/spool/at; do
        rule '' '' '' 1 "$folder" '[!.]*'
    done
    paths_found
}

# Where secrets are kept: who can read them.
secret_places() {
    rule '' '' '' 1 /etc 'shadow*' 'gshadow*' '*.keytab' '*passwd-' ipsec.secrets '*.secret' nslcd.conf rndc.key swapfile
    rule '' '' '' 1 /var/backups '*shadow*' '*passwd*'
    for folder in /etc/ssl/private /etc/pki/tls/private /var/lib/sss/secrets /var/lib/samba/private /etc/wireguard /etc/NetworkManager/system-connections \
        /etc/krb5kdc /var/lib/krb5kdc /etc/cryptsetup-keys.d /etc/sssd /etc/bind /etc/kubernetes/pki; do rule '' '' '' 1 "$folder" '*'; done
    rule '' '' '' 3 /etc/letsencrypt 'privkey*'
    rule '' '' '' 2 /etc/openvpn '*.key'
    rule '' '' '' 1 /etc/ppp '*-secrets'
    paths_found
    for path in /etc/security/opasswd /root/.netrc /root/.pgpass /root/.my.cnf /root/.kube/config /root/.aws/credentials /root/.docker/config.json \
        /root/.git-credentials /swapfile /swap.img /etc/kubernetes/admin.conf /etc/rancher/k3s/k3s.yaml; do printf '%s\n' "$path"; done
    find ./var/lib/postgresql ./var/lib/pgsql ./var/lib/mysql ./var/lib/ldap ./var/lib/openldap ./var/lib/redis -maxdepth 3 2>/dev/null < /dev/null | head -n 500 | sed 's/^\.//'
}
# What the power of some groups depends on: sockets of container runtimes, disks, and the like.
deciding_paths() {
    for path in /run/docker.sock /var/run/docker.sock /run/podman/podman.sock /run/containerd/containerd.sock /run/crio/crio.sock \
        /var/lib/lxd/unix.socket /var/snap/lxd/common/lxd/unix.socket /var/lib/incus/unix.socket /run/libvirt/libvirt-sock /dev/kvm /dev/mem \
        /dev/kmem /dev/port /dev/fb0 /dev/input/event0 /dev/ttyS0 /dev/uinput /etc/shadow /etc/gshadow /etc/passwd /etc/group /usr/local \
        /usr/local/bin /usr/local/sbin /usr/local/lib /var/log /var/log/auth.log /var/log/secure /var/log/journal /run/sudo /var/backups \
        /etc/cups /etc/crontab /etc/ld.so.preload /run/utmp /var/log/wtmp; do printf '%s\n' "$path"; done
    secret_places
    find ./dev -maxdepth 1 -type b \( -name 'sd?' -o -name 'vd?' -o -name 'xvd?' -o -name 'nvme?n?' -o -name 'mmcblk?' -o -name 'dm-?' -o -name 'sd??' -o -name 'vd??' -o -name 'nvme?n?p?' \) 2>/dev/null < /dev/null | sed 's/^\.//'
}
