# -- what others than root can write where the system takes programs, libraries and instructions from -----------------------------------

# Whole trees: who else can write anything in one.  Below a folder that others can write nothing more is asked: all of it is theirs.
TREES='/etc /usr /lib /lib32 /lib64 /libx32 /bin /sbin /boot /root /opt /snap /srv/tftp /var/spool/cron /var/spool/at /var/spool/anacron
/var/lib/dpkg /var/lib/apt /var/lib/rpm /var/lib/systemd /var/lib/polkit-1 /var/lib/alternatives /var/lib/dkms /var/lib/cloud /var/lib/sudo
/var/lib/snapd /var/lib/flatpak /var/lib/NetworkManager /var/lib/dhcp /var/log /run/systemd /run/udev /run/sudo /run/dbus /var/backups'
# As many open places are listed; an honest host has some dozens.
OPEN_MANY=5000
OPEN_TIME=300

# In a sticky folder of root's others can add files, and replace none: what is in it is asked for, too.
open_places() {
    xargs -0 sh -c 'exec find "$@" -xdev ! -type l \( ! -user 0 -o -perm -020 -o -perm -002 \) -print0 -type d \( ! -perm -1000 -o ! -user 0 \) -prune' find < "$work/trees.0" 2>/dev/null
}
# Links in system folders that lead out of them.
outward_links() {
    xargs -0 sh -c 'exec find "$@" -xdev -type l -lname "/*" ! -lname "/usr/*" ! -lname "/etc/*" ! -lname "/lib*" ! -lname "/bin/*" ! -lname "/sbin/*" ! -lname "/proc/*" ! -lname "/dev/*" ! -lname "/sys/*" ! -lname "/run/*" ! -lname "/var/lib/*" ! -lname "/boot/*" -print0' find < "$work/trees.0" 2>/dev/null
}
read_open() {
    : > "$work/trees"
    for tree in $TREES; do
        locate "$tree"
        if [ "$kind" = d ] && [ -z "$who" ]; then printf '%s\n' "$real" >> "$work/trees"; fi
        printf 'look\0370\037\037%s\n' "$tree" >> "$work/wanted"
    done
    fetch
    [ -s "$work/trees" ] || return 0
    sort -u "$work/trees" | sed 's/^/./' | tr '\n' '\0' > "$work/trees.0"
    if [ "$gnu" = true ]; then within "$OPEN_TIME" outward_links > "$work/open.links"; else : > "$work/open.links"; fi
    within "$OPEN_TIME" open_places > "$work/open.0" || gap 'system folders' 'could not be searched to their end in time' 'who can replace what root runs'
    cat "$work/open.0" "$work/open.links" | tr '\n\0' '\036\n' | sed 's/^\.//' | V="look${separator}0$separator" awk -v most="$OPEN_MANY" -v gaps="$work/gaps" '
        /[\036\037]/ { print "system folders\037a name with a control character can be written by others: not looked at\037who can replace what root runs" >> gaps; next }
        ++count > most { if (count == most + 1) print "system folders\037others can write more than " most " places: the rest is not looked at\037who can replace what root runs" >> gaps; next }
        { print ENVIRON["V"] "\037" $0 }' >> "$work/wanted"
    fetch
    sort -u "$work/trees" > "$work/listing"
    listing open-trees 'folders searched for what others than root can write'
}
