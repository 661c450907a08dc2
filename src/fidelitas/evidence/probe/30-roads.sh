# -- log-ins: what sshd accepts, keys, and what PAM asks ---------------------------------------------------------------------------

limit=$POLICY_LIMIT
sshd_folder=/etc/ssh
# sshd_files PATH DEPTH: a configuration file and what it includes (sshd_config(5), Include); sshd itself gives up at 16 levels.
sshd_files() {
    take "$1" whole || return 0
    [ "$2" -lt 16 ] || return 0
    awk 'tolower($1) == "include" || tolower($1) ~ /^include=/ {
        sub(/^[ \t]*[A-Za-z]+[ \t=]+/, ""); gsub(/"/, ""); count = split($0, word, /[ \t]+/)
        for (at = 1; at <= count; at++) if (word[at] != "") print word[at] }' "$work/bundle/files$1" > "$work/sshd.$2"
    while IFS= read -r pattern; do
        case $pattern in
            /*) ;;
            *) pattern=$sshd_folder/$pattern ;;
        esac
        folders "$pattern"
        resolve "${pattern%/*}" || continue
        (cd "$root${real:-/}" 2>/dev/null && find . -maxdepth 1 ! -type d -name "${pattern##*/}" 2>/dev/null) | sort |
            while IFS= read -r name; do printf '%s/%s\n' "${pattern%/*}" "${name#./}"; done > "$work/sshd.found.$2"
        while IFS= read -r found_path; do sshd_files "$found_path" $(($2 + 1)); done < "$work/sshd.found.$2"
    done < "$work/sshd.$2"
}
sshd_files "$sshd_folder/sshd_config" 0

take_all /etc/pam.d 1 whole '*'
take_all /etc/security 2 whole '*.conf'

# private_key PATH: notes that there is one, and whether a passphrase protects it; nothing of the key itself is kept.
private_key() {
    resolve "$1" && [ -f "$root$real" ] && [ -r "$root$real" ] || return 0
    { read -r head; read -r next; } < "$root$real" 2>/dev/null
    case $head in
        *'BEGIN ENCRYPTED PRIVATE KEY'*) key_state=encrypted ;;
        *'BEGIN OPENSSH PRIVATE KEY'*) # the name of the cipher stands first; that of "none" is always the same text
            case $next in b3BlbnNzaC1rZXktdjEAAAAABG5vbmU*) key_state=open ;; *) key_state=encrypted ;; esac ;;
        *'BEGIN '*'PRIVATE KEY'*) case $next in *ENCRYPTED*) key_state=encrypted ;; *) key_state=open ;; esac ;;
        *) return 0 ;;
    esac
    printf '%s\t%s\n' "$key_state" "$1" >> "$work/keys"
    item file "$1"
}

# private_keys FOLDER PATTERN: the same for every file of a folder whose name fits.
private_keys() {
    resolve "$1" && [ -d "$root$real/" ] || return 0
    (cd "$root$real" 2>/dev/null && find . -maxdepth 1 ! -type d -name "$2" 2>/dev/null) | sort > "$work/inside"
    while IFS= read -r name; do
        private_key "$1/${name#./}"
        case $name in *.pub) take "$1/${name#./}" whole || : ;; esac # by it the key is known on other hosts
    done < "$work/inside"
}

# The files in which sshd looks for the keys of an account: sshd_config(5), AuthorizedKeysFile.
key_files=$(cat "$work/bundle/files/etc/ssh/"sshd_config* "$work/bundle/files/etc/ssh/sshd_config.d/"* 2>/dev/null |
    awk 'tolower($1) == "authorizedkeysfile" { for (at = 2; at <= NF; at++) if ($at !~ /^none$/) print $at }' | tr -d '"' | sort -u)
: > "$work/keys"
: > "$work/homes"
homes=0
if [ -f "$work/bundle/files/etc/passwd" ]; then
    while IFS=: read -r name _ uid _ _ home _; do
        case $name in '' | '#'* | [+-]*) continue ;; esac
        homes=$((homes + 1))
        [ "$homes" -le 20000 ] || { gap 'authorized keys' 'more than 20000 accounts: the keys of the rest were not read'; break; }
        case $home in /?*) ;; *) home=/ ;; esac
        resolve "$home" || continue
        home_found=$root$real
        # Not every home is there, and what two accounts share is read once.
        for pattern in .ssh/authorized_keys .ssh/authorized_keys2 $key_files; do
            case $pattern in
                *%*) pattern=$(printf '%s' "$pattern" | awk -v user="$name" -v home="$home" -v uid="$uid" '{
                    gsub(/%%/, "\001"); gsub(/%u/, user); gsub(/%h/, home); gsub(/%U/, uid); gsub(/\001/, "%"); printf "%s", $0 }') ;;
            esac
            case $pattern in
                /*) ;;
                *) pattern=${home%/}/$pattern ;;
            esac
            resolve "$pattern" || continue
            if [ -e "$root$real" ]; then take "$pattern" whole || :
            elif [ -d "$home_found" ] && [ ! -x "$home_found" ]; then gap "$pattern" 'permission denied'
            fi
        done
        if [ "$home" = / ] || [ ! -d "$home_found/" ]; then continue; fi
        look "$home"
        private_keys "${home%/}/.ssh" '*'
        printf '%s\t%s\n' "$name" "$home" >> "$work/homes"
    done < "$work/bundle/files/etc/passwd"
    # What was looked for is said even where nothing was found: no keys and no look are two things.
    { printf 'read\n'; cat "$work/homes"; } > "$work/listing"
    listing homes 'homes of the accounts'
fi
private_keys /etc/ssh 'ssh_host_*_key'
mv "$work/keys" "$work/listing"
listing private-keys 'first two lines of private keys'

# -- what root runs ----------------------------------------------------------------------------------------------------------------

# Commands as they are, the values of variables left out but for those that say where and what runs: they hold passwords.
without_values() {
    awk '/^[ \t]*[A-Za-z_][A-Za-z0-9_]*[ \t]*=/ && !/^[ \t]*(PATH|SHELL|MAILTO|HOME|LOGNAME|RANDOM_DELAY|START_HOURS_RANGE)[ \t]*=/ {
        sub(/=.*/, "=[not copied]") } { print }'
}
unit_lines() { awk '/^[ \t]*(Environment|PassEnvironment|SetCredential)[A-Za-z]*[ \t]*=/ && !/^[ \t]*EnvironmentFile/ { sub(/=.*/, "=[not copied]") } { print }'; }
# Of shell start-up files only what says where programs are taken from; the other lines are empty, so that the numbers hold.
path_lines() { awk '{ print /(^|[ \t;])(export[ \t]+)?PATH\+?=|^[ \t]*(\.|source)[ \t]/ ? $0 : "" }'; }

take /etc/crontab without_values
take /etc/anacrontab without_values
take_all /etc/cron.d 1 without_values '*'
for folder in /var/spool/cron /var/spool/cron/crontabs /var/spool/cron/tabs; do take_all "$folder" 1 without_values '*'; done
for file in /etc/cron.allow /etc/cron.deny /etc/at.allow /etc/at.deny; do take "$file" whole; done
for folder in /etc/systemd/system /run/systemd/system /usr/local/lib/systemd/system /usr/lib/systemd/system /lib/systemd/system; do
    resolve "$folder" || continue
    first_visit units "$real" || continue # /lib is /usr/lib on most hosts
    take_all "$folder" 2 unit_lines '*.service' '*.socket' '*.timer' '*.path' '*.conf'
done
take /etc/ld.so.preload whole
take /etc/ld.so.conf whole
take_all /etc/ld.so.conf.d 1 whole '*.conf'
for file in /root/.profile /root/.bash_profile /root/.bash_login /root/.bashrc /root/.zshrc /root/.kshrc /etc/profile /etc/bash.bashrc \
    /etc/bashrc /etc/environment /etc/zsh/zshenv; do take "$file" path_lines; done
take_all /etc/profile.d 1 path_lines '*.sh'
take_all /etc/polkit-1 3 whole '*.rules' '*.conf' '*.pkla'
take_all /usr/share/polkit-1/rules.d 1 whole '*.rules'
take_all /usr/share/polkit-1/actions 1 whole '*.policy'
take /etc/doas.conf whole
take /etc/exports whole
take_all /etc/exports.d 1 whole '*.exports'

# Programs that root runs by lying in a folder; their first lines name their interpreters.
for folder in /etc/cron.hourly /etc/cron.daily /etc/cron.weekly /etc/cron.monthly /etc/init.d /var/spool/cron/atjobs /var/spool/at; do
    if ! resolve "$folder" || [ ! -d "$root$real/" ]; then continue; fi
    find "$root$real" -maxdepth 1 ! -type d ! -name '.*' 2>/dev/null | while IFS= read -r entry; do printf '%s\n' "$folder/${entry##*/}"; done
done > "$work/more"

# What the power of some groups hangs on: sockets of container runtimes, disks, and the like.
for path in /run/docker.sock /var/run/docker.sock /run/podman/podman.sock /run/containerd/containerd.sock /run/crio/crio.sock \
    /var/lib/lxd/unix.socket /var/snap/lxd/common/lxd/unix.socket /var/lib/incus/unix.socket /run/libvirt/libvirt-sock /dev/kvm /dev/mem \
    /dev/kmem /dev/port /dev/fb0 /dev/input/event0 /dev/ttyS0 /dev/uinput /etc/shadow /etc/gshadow /etc/passwd /etc/group /usr/local \
    /usr/local/bin /usr/local/sbin /usr/local/lib /var/log /var/log/auth.log /var/log/secure /var/log/journal /run/sudo /var/backups \
    /etc/cups /etc/crontab /etc/ld.so.preload /run/utmp /var/log/wtmp; do printf '%s\n' "$path"; done >> "$work/more"
if [ "$live" = true ]; then
    for path in "$root"/dev/sd? "$root"/dev/vd? "$root"/dev/xvd? "$root"/dev/nvme?n? "$root"/dev/mmcblk? "$root"/dev/dm-?; do
        if [ -b "$path" ]; then printf '%s\n' "${path#"$root"}"; fi
    done >> "$work/more"
fi
