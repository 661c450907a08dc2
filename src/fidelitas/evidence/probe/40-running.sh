# -- what is in force now: only a running host knows ---------------------------------------------------------------------------------

if [ "$live" = true ] && [ -z "$root" ]; then
    # Each process with the user and group IDs that it really has: "pid ppid session tty log-in-uid; real effective saved; groups; name".
    awk '
        function told() { if (pid != "") print pid "\t" ppid "\t" uids "\t" gids "\t" groups "\t" name }
        FNR == 1 { told(); pid = ppid = uids = gids = groups = name = "" }
        /^Name:/ { name = substr($0, 7) }
        /^Pid:/ { pid = $2 }
        /^PPid:/ { ppid = $2 }
        /^Uid:/ { uids = $2 " " $3 " " $4 }
        /^Gid:/ { gids = $2 " " $3 " " $4 }
        /^Groups:/ { groups = ""; for (at = 2; at <= NF; at++) groups = groups (at > 2 ? " " : "") $at }
        END { told() }' /proc/[0-9]*/status > "$work/listing" 2>/dev/null
    listing processes '/proc/*/status'
    for path in /proc/[0-9]*/loginuid; do
        number=
        { read -r number < "$path"; } 2>/dev/null
        pid=${path%/loginuid}
        case $number in '' | 4294967295) ;; *) printf '%s\t%s\n' "${pid#/proc/}" "$number" ;; esac
    done > "$work/listing" 2>/dev/null
    listing log-in-ids '/proc/*/loginuid'
    limit=1048576
    take /run/utmp whole || :
    for name in kernel/yama/ptrace_scope kernel/unprivileged_userns_clone user/max_user_namespaces kernel/unprivileged_bpf_disabled \
        kernel/kptr_restrict kernel/dmesg_restrict kernel/core_pattern fs/protected_hardlinks fs/protected_symlinks fs/protected_regular \
        fs/suid_dumpable kernel/modules_disabled kernel/apparmor_restrict_unprivileged_userns; do
        value=
        { read -r value < "/proc/sys/$name"; } 2>/dev/null || continue
        printf '%s\t%s\n' "$name" "$value"
    done > "$work/listing"
    listing kernel '/proc/sys'
    cat /proc/self/mountinfo > "$work/listing" 2>/dev/null
    listing mounts '/proc/self/mountinfo'
    if command -v sudo >/dev/null 2>&1; then
        sudo -V 2>/dev/null | head -n 1 > "$work/listing"
        listing sudo-version 'sudo -V'
    fi
fi
for file in "$root"/etc/sysctl.conf "$root"/etc/sysctl.d/*.conf; do
    if [ -f "$file" ]; then take "${file#"$root"}" whole; fi
done
if [ -r "$root/var/lib/dpkg/status" ]; then
    awk '/^Package: / { name = $2 } /^Version: / && name ~ /^(sudo|openssh-server|policykit-1|polkitd|util-linux|passwd|doas|opendoas|libpam-runtime)$/ {
        print name "\t" $2 }' "$root/var/lib/dpkg/status" > "$work/listing"
    listing package-versions '/var/lib/dpkg/status'
fi
