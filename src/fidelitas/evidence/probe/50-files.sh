# -- setuid and setgid files, and file capabilities -----------------------------------------------------------------------------------

# The kinds of file system that hold files of this host.  Of the others some are no files at all, and some are other hosts'.
is_local() {
    case $1 in
        ext2 | ext3 | ext4 | xfs | btrfs | f2fs | zfs | jfs | reiserfs | overlay | tmpfs | ramfs | vfat | exfat | ntfs3 | squashfs | erofs | iso9660 | bcachefs | nilfs2 | ubifs) return 0 ;;
    esac
    return 1
}

# Prints the folders to search: mount points of local file systems that are not below another mount of the same one.
places_to_search() {
    if [ "$live" != true ] || [ -n "$root" ] || [ ! -r /proc/self/mountinfo ] || [ "$one_file_system" = true ]; then
        printf '%s\n' "${root:-/}"
        return 0
    fi
    awk '{ for (at = 7; at <= NF; at++) if ($at == "-") { print $(at + 1) "\t" $3 "\t" $4 "\t" $5; break } }' /proc/self/mountinfo |
        sort -u > "$work/mounts"
    while IFS=$(printf '\t') read -r kind device inner place; do
        case $place in *\\*) gap "$place" 'a mount point with a blank in its name: not searched for setuid files'; continue ;; esac
        if is_local "$kind"; then
            case $inner in /) printf '%s\t%s\n' "$device" "$place" ;; esac
            continue
        fi
        case $kind in
            nfs* | cifs | smb* | ceph | glusterfs | fuse.sshfs | afs | 9p | lustre | gpfs | beegfs)
                gap "$place" "a network file system ($kind): not searched for setuid files" ;;
            *) printf '%s\t%s\n' "$place" "$kind" >> "$work/skipped" ;;
        esac
    done < "$work/mounts" | awk -F '\t' '!($1 in seen) { seen[$1]; print $2 }'
}

# digests TOOL FILE: "digest TAB path" for each path in FILE that is a readable file; all at once but for names that TOOL would quote.
digests() {
    command -v "$1" >/dev/null 2>&1 || return 0
    awk -v root="$root" '!/\\/ { print root $0 }' "$2" | tr '\n' '\0' | xargs -0 -n 500 "$1" -- /dev/null 2>/dev/null |
        awk -v root="$root" '{ at = index($0, "  "); path = substr($0, at + 2)
            if (path == "/dev/null") next
            if (root != "" && index(path, root) == 1) path = substr(path, length(root) + 1)
            print substr($0, 1, at - 1) "\t" path }'
    grep '[\]' "$2" | while IFS= read -r path; do
        if [ -f "$root$path" ] && [ -r "$root$path" ]; then printf '%s\t%s\n' "$("$1" < "$root$path" | sed 's/ .*//')" "$path"; fi
    done
}

# owned FILE: what the package manager says of the paths in FILE, one a line: who owns them, the digests and modes that were packaged.
owned() {
    resolve /var/lib/dpkg/info || return 0
    dpkg_info=$root$real
    if [ -d "$dpkg_info/" ]; then
        # A path may be packaged under the name that it had before /bin became /usr/bin.
        awk '{ print; if (sub(/^\/usr\//, "/")) print; else if ($0 ~ /^\/(bin|sbin|lib)/) print "/usr" $0 }' "$1" > "$work/names"
        (cd "$dpkg_info" && find . -name '*.list' -exec grep -xF -f "$work/names" /dev/null {} + 2>/dev/null) |
            sed 's/^\.\///; s/\.list:/\t/' | grep -v '^/dev/null' > "$work/listing"
        cut -f 1 "$work/listing" | sort -u > "$work/packages"
        listing dpkg-owners '/var/lib/dpkg/info/*.list'
        sed 's/^\///; s/^/  /' "$work/names" > "$work/sums"
        while IFS= read -r package; do
            sums=$dpkg_info/$package.md5sums
            if [ -r "$sums" ]; then grep -F -f "$work/sums" "$sums" 2>/dev/null | sed "s|^|$package	|"; fi
        done < "$work/packages" > "$work/listing"
        listing dpkg-md5sums '/var/lib/dpkg/info/*.md5sums'
        if [ -r "$dpkg_info/../statoverride" ]; then
            cat "$dpkg_info/../statoverride" > "$work/listing"
            listing dpkg-overrides '/var/lib/dpkg/statoverride'
        fi
        if command -v md5sum >/dev/null 2>&1; then
            digests md5sum "$1" > "$work/listing"
            listing md5 md5sum
        fi
    fi
    for rpm_folder in /var/lib/rpm /usr/lib/sysimage/rpm; do
        if [ -d "$root$rpm_folder/" ] && command -v rpm >/dev/null 2>&1; then
            rpm --dbpath "$root$rpm_folder" -qa --qf \
                '[%{=NAME}\t%{FILEMODES:octal}\t%{FILEUSERNAME}\t%{FILEGROUPNAME}\t%{FILEDIGESTS}\t%{FILECAPS}\t%{FILENAMES}\n]' 2>/dev/null |
                awk -F '\t' -v names="$1" 'BEGIN { while ((getline line < names) > 0) want[line] } $7 in want' > "$work/listing"
            listing rpm-files 'rpm -qa'
            if [ -s "$work/bundle/listings/rpm-files" ]; then break; fi
        fi
    done
}

: > "$work/skipped"
: > "$work/set-id"
if [ "$scan" = true ]; then
    places_to_search > "$work/places"
    gnu=false
    if find /dev/null -printf '' 2>/dev/null; then gnu=true; fi
    # Of programs that somebody may run the capabilities are read while the search goes on.
    with_attributes() {
        if command -v getfattr >/dev/null 2>&1; then
            xargs -0 -n 5000 getfattr -h -d -m '^security\.capability$' -e hex --absolute-names -- >> "$work/attributes" 2>/dev/null
        elif command -v getcap >/dev/null 2>&1; then
            xargs -0 -n 5000 getcap >> "$work/capabilities" 2>/dev/null
        else
            cat > /dev/null
            gap 'file capabilities' 'there is neither getfattr nor getcap to read them with'
        fi
    }
    while IFS= read -r place; do
        if [ "$gnu" = true ]; then # in one pass: find(1) of GNU prints to two places
            find "$place" -xdev -type f -perm /6111 \( -perm /6000 -fprintf "$work/set-id.part" '%m %U %G %s %T@ %p\0' , -perm /111 -print0 \) \
                2>> "$work/find.errors" | with_attributes
            cat "$work/set-id.part" >> "$work/set-id"
        else
            find "$place" -xdev -type f -perm /111 -print0 2>> "$work/find.errors" | with_attributes
            find "$place" -xdev -type f -perm /6000 ! -path "*$newline*" -exec stat -c '%a %u %g %s %Y %n' {} \; 2>/dev/null |
                tr '\n' '\0' >> "$work/set-id"
            if [ -n "$(find "$place" -xdev -type f -perm /6000 -path "*$newline*" 2>/dev/null | head -n 1)" ]; then
                gap 'setuid files' 'there are some whose names hold a line break, which this find cannot tell apart'
            fi
        fi
        printf '%s\n' "${place#"$root"}" >> "$work/searched"
    done < "$work/places"
    # Paths are told as the host sees them.
    tr '\0\n' '\n\001' < "$work/set-id" | awk -v root="$root" '{
        at = index($0, " /"); path = substr($0, at + 1)
        if (root != "" && substr(path, 1, length(root)) == root) path = substr(path, length(root) + 1)
        print substr($0, 1, at) path }' | sort -u | tr '\n\001' '\0\n' > "$work/listing"
    tr '\0\n' '\n\001' < "$work/listing" | awk '{ sub(/^[^ ]+ [^ ]+ [^ ]+ [^ ]+ [^ ]+ /, ""); if ($0 !~ /\001/) print }' > "$work/interesting"
    listing set-id 'find -perm /6000'
    if [ -s "$work/attributes" ]; then
        awk -v root="$root" '/^# file: / && root != "" { path = substr($0, 9); if (index(path, root) == 1) $0 = "# file: " substr(path, length(root) + 1) } { print }' \
            "$work/attributes" > "$work/listing"
        sed -n 's/^# file: //p' "$work/listing" | grep -v '[\]' >> "$work/interesting"
        listing capabilities 'getfattr -m security.capability -e hex'
    fi
    if [ -s "$work/capabilities" ]; then
        awk -v root="$root" '{ if (root != "" && index($0, root) == 1) $0 = substr($0, length(root) + 1); print }' "$work/capabilities" > "$work/listing"
        awk '{ sub(/( = | )cap_[^ ]*$/, ""); sub(/ [^ ]*=[eip]+$/, ""); print }' "$work/listing" >> "$work/interesting"
        listing capabilities-told getcap
    fi
    # The programs that others can be copies of.
    for name in bash sh dash zsh ksh python3 perl ruby php node vim vi nano ed less more find awk mawk gawk tar cp mv dd env gdb; do
        if resolve "/usr/bin/$name" && [ -f "$root$real" ]; then printf '%s\n' "$real"; fi
    done | sort -u > "$work/known"
    sort -u "$work/interesting" > "$work/owned"
    sort -u "$work/interesting" "$work/known" > "$work/hashed"
    digests sha256sum "$work/hashed" > "$work/listing"
    listing program-digests sha256sum
    owned "$work/owned"
    cat "$work/interesting" >> "$work/more"
    { sed 's/^/searched\t/' "$work/searched"; sed 's/^/passed over\t/' "$work/skipped"; } > "$work/listing" 2>/dev/null
    listing file-systems 'file systems'
    if [ -s "$work/find.errors" ]; then
        first=$(sed -n "1s/^find: //p" "$work/find.errors" | sed "s/: [^:]*\$//" | tr -d "'\`")
        gap 'setuid files' "$(grep -c . "$work/find.errors") folders could not be searched, such as ${first#"$root"}"
    fi
else
    gap 'setuid files and capabilities' 'the file systems were not searched (--no-file-scan)'
fi
