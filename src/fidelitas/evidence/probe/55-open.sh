# -- what others than root can write where the system takes programs, libraries and instructions from -----------------------------------

# Whole trees: who else can write anything in one.  Below a folder that others can write nothing more is asked: all of it is theirs.
TREES='/etc /usr /lib /lib32 /lib64 /libx32 /bin /sbin /boot /root /opt /snap /srv/tftp /var/spool/cron /var/spool/at /var/spool/anacron
/var/lib/dpkg /var/lib/apt /var/lib/rpm /var/lib/systemd /var/lib/polkit-1 /var/lib/alternatives /var/lib/dkms /var/lib/cloud /var/lib/sudo
/var/lib/snapd /var/lib/flatpak /var/lib/NetworkManager /var/lib/dhcp /var/log /run/systemd /run/udev /run/sudo /run/dbus /var/backups'
# As many open places are listed; an honest host has some dozens.
OPEN_MANY=5000
OPEN_TIME=300

# In a sticky folder of root's others can add files, and replace none: what is in it is asked for, too.  Of links in system folders those that
# lead out of them.
open_places() {
    if [ "$gnu" = true ]; then set -- -type l -lname '/*' ! -lname '/usr/*' ! -lname '/etc/*' ! -lname '/lib*' ! -lname '/bin/*' ! -lname '/sbin/*' ! -lname '/proc/*' \
        ! -lname '/dev/*' ! -lname '/sys/*' ! -lname '/run/*' ! -lname '/var/lib/*' ! -lname '/boot/*' -print0 -o
    fi
    set -- "$@" ! -type l '(' ! -user 0 -o -perm -020 -o -perm -002 ')' -print0 -type d '(' ! -perm -1000 -o ! -user 0 ')' -prune
    # shellcheck disable=SC2016
    { cat "$work/trees.0"; printf '%s\0' -xdev "$@"; } | xargs -0 -x sh -c 'exec find "$@"' find 2>/dev/null
}
read_open() {
    for tree in $TREES; do printf '%s\n' "$tree"; done > "$work/tree-names"
    awk '{ print "look\0370\037\037" $0 }' "$work/tree-names" >> "$work/wanted"
    fetch
    awk -F '\037' 'FILENAME == ARGV[1] { wanted[$0]; next } $1 in wanted && $2 == "d" && $4 == "" { print $3 }' "$work/tree-names" "$work/walked" > "$work/trees"
    [ -s "$work/trees" ] || return 0
    sort -u "$work/trees" | sed 's/^/./' | tr '\n' '\0' > "$work/trees.0"
    within "$OPEN_TIME" open_places > "$work/open.0" || gap 'system folders' 'could not be searched to their end in time' 'who can replace what root runs'
    tr '\n\0' '\036\n' < "$work/open.0" | sed 's/^\.//' | V="look${separator}0$separator" awk -v most="$OPEN_MANY" -v gaps="$work/gaps" '
        /[\036\037]/ { print "system folders\037a name with a control character can be written by others: not looked at\037who can replace what root runs" >> gaps; next }
        ++count > most { if (count == most + 1) print "system folders\037others can write more than " most " places: the rest is not looked at\037who can replace what root runs" >> gaps; next }
        { print ENVIRON["V"] "\037" $0 }' >> "$work/wanted"
    fetch
    sort -u "$work/trees" > "$work/listing"
    listing open-trees 'folders searched for what others than root can write'
}
