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
    if [ "$live" != true ] || [ ! -r /proc/self/mountinfo ] || [ "$one_file_system" = true ]; then
        printf '/\n'
        return 0
    fi
    awk '{ for (at = 7; at <= NF; at++) if ($at == "-") { print $(at + 1) "\t" $3 "\t" $4 "\t" $5; break } }' /proc/self/mountinfo |
        sort -u > "$work/mounts"
    while IFS=$(printf '\t') read -r kind device inner place; do
        case $place in *\\*) gap "$place" 'a mount point with a blank in its name: not searched for setuid files' 'which programs make their user root'; continue ;; esac
        if is_local "$kind"; then
            case $inner in /) printf '%s\t%s\n' "$device" "$place" ;; esac
            continue
        fi
        case $kind in
            nfs* | cifs | smb* | ceph | glusterfs | fuse.sshfs | afs | 9p | lustre | gpfs | beegfs)
                gap "$place" "a network file system ($kind): not searched for setuid files" 'which programs make their user root' ;;
            *) printf '%s\t%s\n' "$place" "$kind" >> "$work/skipped" ;;
        esac
    done < "$work/mounts" | awk -F '\t' '!($1 in seen) { seen[$1]; print $2 }'
}

# What a search may take: an ordinary user can make ten million files.
SEARCH_TIME=900
# As many set-id files of one owner are listed; root's are all.
OWNER_MANY=500
SET_ID_MANY=50000

# Of programs that an account may run the capabilities are read while the search goes on.
with_attributes() {
    if command -v getfattr >/dev/null 2>&1; then
        xargs -0 -n 5000 getfattr -h -d -m '^security\.capability$' -e hex -- >> "$work/attributes" 2>/dev/null
    elif command -v getcap >/dev/null 2>&1; then
        xargs -0 -n 5000 getcap >> "$work/capabilities" 2>/dev/null
    else
        cat > /dev/null
        gap 'file capabilities' 'there is neither getfattr nor getcap to read them with' 'which programs hold capabilities'
    fi
}
# What a private key is called, or what lies beside one.
key_names='( -name id_* -o -name *_rsa -o -name *_dsa -o -name *_ecdsa -o -name *_ed25519 -o -name *key -o -name *.pem -o -name *.ppk -o -name *.pub -o -name identity )'
# shellcheck disable=SC2086 # a word each
search_gnu() { # in one pass: find(1) of GNU prints to three places; it would ask for names before sizes, but for the -prune between, which does nothing to files
    find ".$1" -xdev -type f \( -perm /6111 \( -perm /6000 -fprintf "$work/set-id.part" '%m %U %G %s %T@ %p\0' , -perm /111 -print0 \) , \
        -size "+${least_copy}c" -size "-${most_copy}c" \( ! -user 0 -o -perm /044 \) -prune ! -path './proc/*' \( ! -path './usr/*' -o -path './usr/local/*' \) -fprintf "$work/copies.part" '%U %p\0' , \
        -size -16385c -size +60c -prune $key_names ! -path './proc/*' \( ! -path './usr/*' -o -path './usr/local/*' \) ! -path './etc/ssh/*' -fprintf "$work/keys.part" '%U %p\0' \) 2>> "$work/find.errors" | with_attributes
}
of_nobody() { tr '\n\0' '\036\n' | sed 's/^/- /' | tr '\036\n' '\n\0'; }
# shellcheck disable=SC2086
search_small() {
    find ".$1" -xdev -type f -perm /111 -print0 2>> "$work/find.errors" | with_attributes
    find ".$1" -xdev -type f -perm /6000 ! -path "*$newline*" -exec stat -c '%a %u %g %s %Y %n' {} \; 2>/dev/null | tr '\n' '\0' > "$work/set-id.part"
    find ".$1" -xdev -type f -size "+${least_copy}c" -size "-${most_copy}c" \( ! -user 0 -o -perm /044 \) ! -path './proc/*' \( ! -path './usr/*' -o -path './usr/local/*' \) -print0 2>/dev/null | of_nobody > "$work/copies.part"
    find ".$1" -xdev -type f -size -16385c -size +60c $key_names ! -path './proc/*' \( ! -path './usr/*' -o -path './usr/local/*' \) ! -path './etc/ssh/*' -print0 2>/dev/null | of_nobody > "$work/keys.part"
    if [ -n "$(find ".$1" -xdev -type f -perm /6000 -path "*$newline*" 2>/dev/null | head -n 1)" ]; then
        gap 'setuid files' 'there are some whose names hold a line break, which this find cannot tell apart' 'which programs make their user root'
    fi
}

# Paths as the host sees them, without what stands before its root folder.
search_files() {
    if [ "$scan" != true ]; then
        gap 'setuid files and capabilities' 'the file systems were not searched (--no-file-scan)' 'which programs make their user root'
        return 0
    fi
    : > "$work/skipped"; : > "$work/copies.0"; : > "$work/keys.0"
    # A copy of the shadow file is about as long as that; older ones are shorter.
    shadow_size=$(awk -F '\037' '$1 == "/etc/shadow" { print $6 + 0; exit }' "$work/states")
    shadow_size=${shadow_size:-0} least_copy=$((shadow_size / 2)) most_copy=$((shadow_size + shadow_size / 4 + 200))
    places_to_search > "$work/places"
    : > "$work/set-id"; : > "$work/attributes"; : > "$work/capabilities"; : > "$work/find.errors"; : > "$work/searched"
    while IFS= read -r place; do
        rm -f "$work/set-id.part" "$work/copies.part" "$work/keys.part"
        if [ "$gnu" = true ]; then search=search_gnu; else search=search_small; fi
        if within "$SEARCH_TIME" "$search" "$place" < /dev/null; then printf '%s\n' "$place" >> "$work/searched"
        else gap "$place" "was not searched to its end within $SEARCH_TIME seconds" 'which programs make their user root, or hold capabilities'
        fi
        cat "$work/set-id.part" >> "$work/set-id" 2>/dev/null
        cat "$work/copies.part" >> "$work/copies.0" 2>/dev/null
        cat "$work/keys.part" >> "$work/keys.0" 2>/dev/null
    done < "$work/places"
    tr '\0\n' '\n\001' < "$work/set-id" | awk -v most="$OWNER_MANY" -v all="$SET_ID_MANY" -v gaps="$work/gaps" '{
        at = index($0, " ./"); path = substr($0, at + 2)
        if (at == 0) next
        if ($2 != 0 && ++count[$2] > most) {
            if (count[$2] == most + 1) print "setuid files\037uid " $2 " owns more than " most ": the rest is not listed\037which programs make their user that account" >> gaps
            next
        }
        if (++total > all) { if (total == all + 1) print "setuid files\037there are more than " all ": the rest is not listed\037which programs make their user root" >> gaps; next }
        print substr($0, 1, at) path }' | sort -u > "$work/set-id.sorted"
    tr '\n\001' '\0\n' < "$work/set-id.sorted" > "$work/listing"
    awk '{ sub(/^[^ ]+ [^ ]+ [^ ]+ [^ ]+ [^ ]+ /, ""); if ($0 !~ /[\001\036\037]/) print }' "$work/set-id.sorted" > "$work/interesting"
    listing set-id 'find -perm /6000'
    attributes_found
    maybe_copied > "$work/known"
    sort -u "$work/interesting" > "$work/owned"
    sort -u "$work/interesting" "$work/known" > "$work/hashed"
    digests_of sha256sum "$work/hashed" > "$work/listing"
    listing program-digests sha256sum
    owned "$work/owned"
    { sed 's/^/searched\t/' "$work/searched"; sed 's/^/skipped\t/' "$work/skipped"; } > "$work/listing"
    listing file-systems 'file systems'
    if [ -s "$work/find.errors" ]; then
        first=$(sed -n "1s/^find: //p" "$work/find.errors" | sed "s/: [^:]*\$//" | tr -d "'\`" | cut -c 1-300)
        gap 'setuid files' "$(grep -c . "$work/find.errors") folders could not be searched, such as ${first#.}" 'which programs make their user root'
    fi
}
# The system's own programs that a file with such a bit can be a copy of: those as long as one of them.
KNOWN_MANY=3000
CAPABLE_MANY=2000
PROGRAM_FOLDERS='usr/bin usr/sbin usr/local/bin usr/local/sbin bin sbin'
maybe_copied() {
    {
        awk '{ print $4 }' "$work/set-id.sorted"
        sed 's/^/./' "$work/capable" | head -n "$CAPABLE_MANY" | tr '\n' '\0' | xargs -0 -n 200 stat -c %s -- 2>/dev/null
    } | sort -u > "$work/sizes"
    for programs in $PROGRAM_FOLDERS; do
        if [ -d "$programs" ] && [ ! -L "$programs" ]; then find "$programs" -maxdepth 1 -type f ! -name "*$newline*" -exec stat -c '%s /%n' {} + 2>/dev/null; fi
    done | awk -v most="$KNOWN_MANY" 'FILENAME == ARGV[1] { wanted[$1]; next } $1 in wanted && ++count <= most { sub(/^[0-9]+ /, ""); print }' "$work/sizes" - | sort -u
}
attributes_found() {
    : > "$work/capable"
    if [ -s "$work/attributes" ]; then
        sed 's/^# file: \.\//# file: \//; s/^# file: \([^\/]\)/# file: \/\1/' "$work/attributes" | head -n 200000 > "$work/listing"
        sed -n 's/^# file: //p' "$work/listing" | grep -v '[\]' >> "$work/capable"
        listing capabilities 'getfattr -m security.capability -e hex'
    fi
    if [ -s "$work/capabilities" ]; then
        sed 's/^\.//' "$work/capabilities" | head -n 200000 > "$work/listing"
        awk '{ sub(/( = | )cap_[^ ]*$/, ""); sub(/ [^ ]*=[eip]+$/, ""); print }' "$work/listing" >> "$work/capable"
        listing getcap getcap
    fi
    cat "$work/capable" >> "$work/interesting"
}

# digests_of TOOL FILE: "digest TAB path" of each path in FILE, one a line, that is a file which may be read.
SUM_LIMIT=268435456
digests_of() {
    command -v "$1" >/dev/null 2>&1 || return 0
    : > "$work/sums"
    V="sum$separator$SUM_LIMIT$separator$1" awk '{ print ENVIRON["V"] "\037" $0 }' "$2" >> "$work/wanted"
    fetch
    cut -f 2- "$work/sums" | sort -u -t "$(printf "\t")" -k 2
}

# owned FILE: what the package manager says of the paths in FILE, one a line: who owns them, the digests and modes that were packaged.
owned() {
    locate /var/lib/dpkg/info
    if [ "$kind" = d ] && [ -z "$who" ]; then dpkg_says "$1" "$real"; fi
    for rpm_folder in /var/lib/rpm /usr/lib/sysimage/rpm; do
        locate "$rpm_folder"
        if [ "$kind" != d ] || [ -n "$who" ] || ! command -v rpm >/dev/null 2>&1; then continue; fi
        rpm_says "$1" "$real"
        if [ -s "$work/bundle/listings/rpm-files" ]; then break; fi
    done
}
dpkg_says() {
    # A path may be packaged under the name that it had before /bin became /usr/bin.
    awk '{ print; if (sub(/^\/usr\//, "/")) print; else if ($0 ~ /^\/(bin|sbin|lib)/) print "/usr" $0 }' "$1" > "$work/names"
    lists() { (cd ".$2" && find . -maxdepth 1 -name '*.list' -type f -exec grep -xF -f "$work/names" /dev/null {} +) 2>/dev/null < /dev/null; }
    within 120 lists "$1" "$2" | sed 's/^\.\///; s/\.list:/\t/' | grep -v '^/dev/null' > "$work/listing"
    cut -f 1 "$work/listing" | sort -u > "$work/packages"
    listing dpkg-owners '/var/lib/dpkg/info/*.list'
    sed 's/^\///; s/^/  /' "$work/names" > "$work/sums-wanted"
    while IFS= read -r package; do
        sums=.$2/$package.md5sums
        if [ -f "$sums" ] && [ ! -L "$sums" ] && [ -r "$sums" ]; then grep -F -f "$work/sums-wanted" "$sums" 2>/dev/null | V=$package awk '{ print ENVIRON["V"] "\t" $0 }'; fi
    done < "$work/packages" > "$work/listing"
    listing dpkg-md5sums '/var/lib/dpkg/info/*.md5sums'
    locate /var/lib/dpkg/statoverride
    if [ "$kind" = f ] && [ -z "$who" ]; then head -c 1048576 < ".$real" > "$work/listing" && listing dpkg-overrides '/var/lib/dpkg/statoverride'; fi
    digests_of md5sum "$1" > "$work/listing"
    listing md5 md5sum
}
# The database is copied first: rpm would make a lock and other files beside it.
rpm_says() {
    find ".$2" -maxdepth 1 -type f \( -name 'rpmdb.sqlite' -o -name 'rpmdb.sqlite-wal' -o -name 'Packages' -o -name 'Packages.db' \) -size -2097152 -print 2>/dev/null < /dev/null > "$work/rpm-files"
    [ -s "$work/rpm-files" ] || { gap "$2" 'holds no package database of at most 1 GiB' 'which programs are packaged'; return 0; }
    rm -rf "$work/rpm" && mkdir "$work/rpm"
    while IFS= read -r file; do cat < "$file" > "$work/rpm/${file##*/}"; done < "$work/rpm-files"
    rpm_query() {
        rpm --dbpath "$work/rpm" -qa --qf '[%{=NAME}\t%{FILEMODES:octal}\t%{FILEUSERNAME}\t%{FILEGROUPNAME}\t%{FILEDIGESTS}\t%{FILECAPS}\t%{FILENAMES}\n]' 2>/dev/null < /dev/null
    }
    within 300 rpm_query | awk -F '\t' -v names="$1" 'BEGIN { while ((getline line < names) > 0) want[line] } $7 in want' > "$work/listing"
    rm -rf "$work/rpm"
    listing rpm-files 'rpm -qa'
}
