# -- what is in force now: only a running host knows ---------------------------------------------------------------------------------

# As many processes are listed; a host of ten thousand accounts has fewer.
PROCESSES_MANY=100000
# Each process with the user and group IDs that it really has: process, parent, user IDs, group IDs, groups, name.
read_processes() {
    find /proc -maxdepth 1 -name '[0-9]*' 2>/dev/null < /dev/null | awk -v logins="$work/logins" '{
        file = $0 "/status"
        pid = ppid = uids = gids = groups = name = ""
        while ((getline line < file) > 0) {
            count = split(line, part, /[ \t]+/)
            if (line ~ /^Name:/) name = substr(line, 7)
            else if (part[1] == "Pid:") pid = part[2]
            else if (part[1] == "PPid:") ppid = part[2]
            else if (part[1] == "Uid:") uids = part[2] " " part[3] " " part[4]
            else if (part[1] == "Gid:") gids = part[2] " " part[3] " " part[4]
            else if (part[1] == "Groups:") { for (at = 2; at <= count; at++) if (part[at] != "") groups = groups (groups == "" ? "" : " ") part[at]; break }
        }
        close(file)
        if (pid == "") next
        print pid "\t" ppid "\t" uids "\t" gids "\t" groups "\t" name
        file = $0 "/loginuid"
        if ((getline line < file) > 0 && line ~ /^[0-9]+$/ && line != "4294967295") print pid "\t" line > logins
        close(file)
    }' 2>/dev/null | head -n "$PROCESSES_MANY" > "$work/listing"
    if [ "$(awk 'END { print NR }' "$work/listing")" -ge "$PROCESSES_MANY" ]; then gap processes "more than $PROCESSES_MANY: the rest is not listed" 'which sessions hold groups that the files do not give'; fi
    listing processes '/proc/*/status'
    if [ -e "$work/logins" ]; then mv "$work/logins" "$work/listing"; fi
    listing login-ids '/proc/*/loginuid'
}

read_running() {
    [ "$live" = true ] || return 0
    read_processes
    want if 1048576 whole /run/utmp
    fetch
    for name in kernel/yama/ptrace_scope kernel/unprivileged_userns_clone user/max_user_namespaces kernel/unprivileged_bpf_disabled \
        kernel/kptr_restrict kernel/dmesg_restrict kernel/core_pattern fs/protected_hardlinks fs/protected_symlinks fs/protected_regular \
        fs/suid_dumpable kernel/modules_disabled kernel/apparmor_restrict_unprivileged_userns; do
        value=
        { read -r value < "/proc/sys/$name"; } 2>/dev/null || continue
        printf '%s\t%s\n' "$name" "$value"
    done > "$work/listing"
    listing kernel '/proc/sys'
    head -c 4194304 /proc/self/mountinfo > "$work/listing" 2>/dev/null
    listing mounts '/proc/self/mountinfo'
    if command -v sudo >/dev/null 2>&1; then
        within 20 sudo -V 2>/dev/null < /dev/null | head -n 1 > "$work/listing"
        listing sudo-version 'sudo -V'
    fi
}

# Only what is needed of a large file: the versions of the packages that decide.
package_versions() {
    awk '/^Package: / { name = $2 } /^Version: / && name ~ /^(sudo|openssh-server|policykit-1|polkitd|util-linux|passwd|doas|opendoas|libpam-runtime)$/ {
        print name "\t" $2 }'
}
read_versions() {
    locate /var/lib/dpkg/status
    if [ "$kind" != f ] || [ -n "$who" ] || [ ! -r ".$real" ]; then return 0; fi
    head -c "$FILE_LIMIT" < ".$real" | package_versions > "$work/listing"
    listing package-versions '/var/lib/dpkg/status'
}
