# -- hooks: configuration and scripts by which root's programs run others ----------------------------------------------------------------

# Folders and files that are looked through, with how deep.  Only what names something beside the packaged system is copied: the rest runs
# packaged programs, of which it is known who can write them.
HOOKS='/etc/udev/rules.d 1 /usr/lib/udev/rules.d 1 /run/udev/rules.d 1 /etc/modprobe.d 1 /usr/lib/modprobe.d 1 /etc/apt/apt.conf.d 1
/etc/dpkg/dpkg.cfg.d 1 /etc/logrotate.d 1 /etc/binfmt.d 1 /usr/lib/binfmt.d 1 /usr/lib/sysctl.d 1 /usr/share/dbus-1/system-services 1 /usr/local/share/dbus-1/system-services 1
/etc/rsyslog.d 1 /etc/xinetd.d 1 /etc/network/interfaces.d 1 /etc/network/if-up.d 1 /etc/network/if-pre-up.d 1 /etc/network/if-down.d 1
/etc/network/if-post-down.d 1 /etc/NetworkManager/dispatcher.d 2 /usr/lib/NetworkManager/dispatcher.d 2 /etc/dhcp 2 /etc/update-motd.d 1 /etc/kernel 2
/etc/initramfs-tools 3 /etc/grub.d 1 /etc/ppp 2 /etc/openvpn 2 /etc/acpi 2 /etc/pm 2 /etc/smartmontools 2 /etc/needrestart 2 /etc/cloud 3
/var/lib/cloud/scripts 2 /etc/X11/Xsession.d 1 /etc/X11/xinit 2 /etc/fail2ban/action.d 1 /etc/monit 2 /etc/supervisor 2 /etc/mdadm 1 /etc/keepalived 1
/etc/snmp 1 /etc/dnsmasq.d 1 /etc/audit 2 /etc/libvirt/hooks 2 /etc/systemd/system-generators 1 /usr/lib/systemd/system-generators 1
/etc/systemd/system-sleep 1 /usr/lib/systemd/system-sleep 1 /usr/lib/systemd/system-shutdown 1 /etc/networkd-dispatcher 2 /etc/cron.hourly 1
/etc/cron.daily 1 /etc/cron.weekly 1 /etc/cron.monthly 1 /etc/init.d 1 /etc/rc.d 2 /etc/profile.d 1 /etc/default 1 /etc/sysconfig 1 /etc/tmpfiles.d 1
/etc/depmod.d 1 /etc/dracut.conf.d 1 /etc/zabbix 2 /etc/nagios 2 /etc/exim4 2 /etc/postfix 1 /etc/samba 1 /etc/lightdm 2 /etc/gdm3 2 /etc/sssd 2'
HOOK_FILES='/etc/apt/apt.conf /etc/dpkg/dpkg.cfg /etc/logrotate.conf /etc/rsyslog.conf /etc/inetd.conf /etc/xinetd.conf /etc/network/interfaces
/etc/rc.local /etc/aliases /root/.forward /etc/smartd.conf /etc/mdadm.conf /etc/monitrc /etc/supervisord.conf /etc/dnsmasq.conf /etc/sysctl.conf
/etc/dhclient.conf /etc/inittab /etc/fstab /etc/crypttab /etc/exports /etc/auto.master'
HOOK_LIMIT=65536
# As many are copied.
HOOKS_MANY=2000

# hooks_named: of the files in $work/hooks.0, those that name a path outside of what packages bring.
hooks_named() {
    xargs -0 awk '
        FNR == 1 { found = substr($0, 2, 3) == "ELF" }  # a compiled program is not a script
        found || /^[ \t]*#[^!]/ { next }
        {
            text = $0
            while (match(text, /[\/][A-Za-z0-9_.+~-]+([\/][A-Za-z0-9_.+~-]+)*/)) {
                before = RSTART > 1 ? substr(text, RSTART - 1, 1) : ""
                path = substr(text, RSTART, RLENGTH)
                text = substr(text, RSTART + RLENGTH)
                if (before ~ /[A-Za-z0-9_.}*\/-]/) continue
                if (path ~ /^\/(bin|sbin|lib|lib32|lib64|dev|proc|sys|run)(\/|$)/ || path ~ /^\/usr\/(bin|sbin|lib|libexec|share|lib64)(\/|$)/ || path ~ /^\/var\/(log|run|lib|cache|lock|spool)(\/|$)/) continue
                if (path !~ /^\/[^\/]+\/./) continue
                found = 1
                print FILENAME
                break
            }
        }'
}
read_hooks() {
    for hook in $HOOKS; do
        case $hook in
            /*) hook_folder=$hook ;;
            *) rule '' '' '' "$hook" "$hook_folder" '*' ;;
        esac
    done
    paths_found > "$work/hook-paths"
    for path in $HOOK_FILES; do printf '%s\n' "$path"; done >> "$work/hook-paths"
    sort -u "$work/hook-paths" > "$work/hook-sorted"
    walk "$work/hook-sorted"
    # Of those that only root decides: others cannot hide anything from it, they can write it anyway.
    awk -F '\037' 'FILENAME == ARGV[1] { if ($2 == "f" && $4 == "") real[$1] = $3; next } $0 in real { printf ".%s%c", real[$0], 0 }' "$work/walked" "$work/hook-sorted" > "$work/hooks.0"
    within 60 hooks_named < "$work/hooks.0" > "$work/hooks-found" 2>/dev/null
    sed 's/^\.//' "$work/hooks-found" > "$work/hooks-real"
    awk -F '\037' -v most="$HOOKS_MANY" 'FILENAME == ARGV[1] { wanted[$0]; next } FILENAME == ARGV[2] { asked[$0]; next }
        FILENAME == ARGV[3] { copied[$1]; next }
        $1 in asked && !($1 in copied) && $2 == "f" && $4 == "" && $3 in wanted && ++count <= most { print "if\037'"$HOOK_LIMIT"'\037masked\037" $1 }' \
        "$work/hooks-real" "$work/hook-sorted" "$work/members" "$work/walked" >> "$work/wanted"
    fetch
}
