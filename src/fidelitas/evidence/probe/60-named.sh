# -- the paths that the policy names, commands above all, and those of what root runs: who can write one decides what runs as root ------

# As many are looked at of what root wrote; of each other account's files as many.
LOOK_LIMIT=20000
LOOK_EACH=300
# named_paths MOST EACH FILE...: prints the paths in files, at most EACH of a file; patterns and escapes are left out.
named_paths() {
    named_most=$1 named_each=$2
    shift 2
    xargs -0 awk -v each="$named_each" -v gaps="$work/gaps" -v sources="$work/sources" '
    BEGIN { while ((getline line < sources) > 0) { split(line, part, "\037"); source[part[1]] = part[2] } }
    FNR == 1 { split("", met); printed = 0 }
    /^[ \t]*#/ && !/^#!/ { next }
    FILENAME in source && source[FILENAME] ~ /\/systemd\// && !/^[ \t]*(Exec|EnvironmentFile|RootDirectory|WorkingDirectory)/ { next }
    printed > each { next }
    {
        count = split($0, words, /[ \t,=:()!"\047;|&<>@{}$]+/)
        for (at = 1; at <= count; at++) {
            word = words[at]
            sub(/\/+$/, "", word)
            sub(/^[-+]+\//, "/", word)
            if (word ~ /^\/[^]\\*?[%`]+$/ && word !~ /\/\.\.?(\/|$)/ && !(word in met) && length(word) < 1024) {
                met[word]
                if (++printed > each) { print source[FILENAME] "\037names more than " each " paths: the rest is not looked at\037who can replace what it runs" >> gaps; break }
                print word
            }
        }
    }' < "$work/files.0" | sort -u > "$work/names"
    if [ "$(awk 'END { print NR }' "$work/names")" -gt "$named_most" ]; then
        gap 'paths that root runs' "there are more than $named_most: the rest is not looked at" 'who can replace what root runs'
    fi
    head -n "$named_most" "$work/names"
}

# sources_of PATTERN ROOTS: the copies of files whose paths match, those that only root can write (yes) or the others (no), in $work/files.0.
sources_of() {
    awk -F '\037' -v pattern="$1" -v roots="$2" -v folder="$work/bundle/files/" '
        FILENAME == ARGV[1] { if ($1 == "file" && ($5 != 0 || $4 ~ /[2367]$/)) other[$2]; next }
        FILENAME == ARGV[2] { if ($4 != "") other[$1]; next }
        $1 ~ pattern && ($1 in other ? "no" : "yes") == roots { print folder $2 "\037" $1 }' "$work/items" "$work/walked" "$work/members" | sort -u > "$work/sources"
    cut -d "$separator" -f 1 "$work/sources" | sort -u | tr '\n' '\0' > "$work/files.0"
}
POLICIES='sudo|^/etc/doas[.]conf$'
JOBS='^/etc/cron|^/etc/(udev|modprobe|apt|dpkg|logrotate|binfmt|rsyslog|xinetd|inetd|network|NetworkManager|dhcp|update-motd|kernel|initramfs|grub|ppp|openvpn|acpi|pm|smart|needrestart|cloud|X11|fail2ban|monit|supervisor|mdadm|keepalived|snmp|dnsmasq|audit|libvirt|systemd|init[.]d|rc|default|sysconfig|pam[.]d|security|ssh|sysctl|aliases|exim|postfix|samba|sudo[.]conf)|^/usr/lib/(udev|modprobe|NetworkManager|systemd)|^/usr/share/dbus|^/var/lib/cloud|^/var/spool/at|^/var/spool/cron|^/etc/anacrontab$|^/etc/ld[.]so|^/etc/profile|^/root/|^/etc/environment$|/systemd/'
policy_text() {
    awk -F '\037' '$1 ~ /sudo/ { print $2 }' "$work/members" | sort -u | while IFS= read -r number; do cat "$work/bundle/files/$number"; done
}

# The algorithms of the digests that the policy asks for (sudoers(5), Digest_Spec).
algorithms() { policy_text | grep -v '^[[:space:]]*#' | grep -o 'sha\(224\|256\|384\|512\)[[:space:]]*:' | tr -d ': \t' | sort -u; }

read_named() {
    {
        sources_of "$POLICIES|$JOBS" yes
        named_paths "$LOOK_LIMIT" "$LOOK_LIMIT"
        programs_in_folders | head -n "$LOOK_LIMIT"
        cat "$work/interesting" 2>/dev/null
    } | sort -u > "$work/roots-names"
    deciding_paths > "$work/deciding"
    sources_of "$POLICIES|$JOBS" no
    named_paths "$LOOK_LIMIT" "$LOOK_EACH" > "$work/others-names"
    sort -u "$work/roots-names" "$work/deciding" "$work/others-names" | V="look${separator}0$separator" awk '{ print ENVIRON["V"] "\037" $0 }' >> "$work/wanted"
    : > "$work/first-lines"
    V="first$separator$SUM_LIMIT$separator" awk '{ print ENVIRON["V"] "\037" $0 }' "$work/roots-names" >> "$work/wanted"
    fetch
    read_digests
    for _ in 1 2 3; do follow_scripts; done
    # The first line of each that is a script: it names the interpreter that root runs.
    sort -u "$work/first-lines" > "$work/listing"
    cut -f 2 "$work/listing" | sed 's/^#!//' | awk '{ print $1 }' | grep '^/' | sort -u | head -n 1000 > "$work/interpreters"
    listing scripts 'first lines of scripts'
    V="look${separator}0$separator" awk '{ print ENVIRON["V"] "\037" $0 }' "$work/interpreters" >> "$work/wanted"
    fetch
}

# Scripts that root runs are copied, and what they name is looked at: in rounds, from one script to the next.
SCRIPT_LIMIT=262144
SCRIPTS_MANY=500
follow_scripts() {
    awk -F '\t' '$2 ~ /^#![ \t]*[^ \t]*[\/](env[ \t]+)?(ba|da|k|z|mk|a)?sh([ \t]|$)/ || $2 ~ /^#![ \t]*[^ \t]*[\/](env[ \t]+)?python[0-9.]*([ \t]|$)/ { print $1 }' "$work/first-lines" > "$work/scripts"
    cat "$work/roots-names" "$work/script-names" 2>/dev/null | grep '[.]\(py\|sh\|bash\)$' | sort -u - "$work/scripts" > "$work/scripts.all"
    awk -F '\037' -v most="$SCRIPTS_MANY" -v limit="$SCRIPT_LIMIT" '
        FILENAME == ARGV[1] { copied[$1]; next }
        FILENAME == ARGV[2] { script[$0]; next }
        $1 in script && !($1 in copied) && $2 == "f" && $4 == "" && ++count <= most { print "if\037" limit "\037masked\037" $1 }' \
        "$work/members" "$work/scripts.all" "$work/walked" > "$work/wanted"
    [ -s "$work/wanted" ] || return 0
    cut -d "$separator" -f 4 "$work/wanted" > "$work/new-scripts"
    fetch
    awk -F '\037' -v folder="$work/bundle/files/" 'FILENAME == ARGV[1] { new[$0]; next } $1 in new { print folder $2 "\037" $1 }' "$work/new-scripts" "$work/members" | sort -u > "$work/sources"
    cut -d "$separator" -f 1 "$work/sources" | sort -u | tr '\n' '\0' > "$work/files.0"
    [ -s "$work/files.0" ] || return 0
    named_paths "$LOOK_LIMIT" "$LOOK_LIMIT" > "$work/script-names"
    V="look${separator}0$separator" awk '{ print ENVIRON["V"] "\037" $0 }' "$work/script-names" >> "$work/wanted"
    V="first$separator$SUM_LIMIT$separator" awk '{ print ENVIRON["V"] "\037" $0 }' "$work/script-names" >> "$work/wanted"
    fetch
}

# Of the files that the policy names, the digests that it compares commands with.
read_digests() {
    : > "$work/command-digests"
    sources_of "$POLICIES" yes
    named_paths "$LOOK_LIMIT" "$LOOK_LIMIT" > "$work/commands"
    for algorithm in $(algorithms); do
        digests_of "${algorithm}sum" "$work/commands" | awk -v name="$algorithm" -F '\t' '{ print $2 "\037" name "\037" $1 }' >> "$work/command-digests"
    done
}
