# The algorithms of the digests that the policy asks for (sudoers(5), Digest_Spec).
policy_text() { find "$work/bundle/files" -type f -path '*sudo*' -exec cat {} +; }
algorithms=$(policy_text | grep -v '^[[:space:]]*#' | grep -o 'sha\(224\|256\|384\|512\)[[:space:]]*:' | tr -d ': \t' | sort -u)

# digests_of FILE: sets $digests to those that the policy compares commands with.
digests_of() {
    digests=
    for algorithm in $algorithms; do
        command -v "${algorithm}sum" >/dev/null 2>&1 || continue
        digests="$digests${digests:+, }$("${algorithm}sum" < "$1" 2>/dev/null | awk -v name="$algorithm" '{ printf "\"%s\": \"%s\"", name, $1 }')"
    done
    digests=${digests:+, \"digests\": \{$digests\}}
}

# The paths that the policy names, commands above all, and those of what root runs: who can write one decides what runs as root.
# Patterns and escapes are left out.
LOOK_LIMIT=4000
named_paths() {
    awk -v most="$LOOK_LIMIT" '
    /^[ \t]*#/ && !/^#!/ { next }
    {
        count = split($0, words, /[ \t,=:()!"\047;|&<>@{}$]+/)
        for (at = 1; at <= count; at++) {
            word = words[at]
            sub(/\/+$/, "", word)
            sub(/^[-+]+\//, "/", word)
            if (word ~ /^\/[^]\\*?[%`]+$/ && word !~ /\/\.\.?(\/|$)/ && !(word in seen) && length(word) < 1024) {
                seen[word]
                print word
                if (++printed >= most) exit
            }
        }
    }'
}
running_text() {
    (cd "$work/bundle/files" && find . -type f \( -path './etc/cron*' -o -path './var/spool/cron*' -o -path './etc/anacrontab' \
        -o -path './etc/ld.so*' -o -path './etc/profile*' -o -path './root/*' -o -path './etc/environment' \) -exec cat {} +
    find . -type f -path '*/systemd/*' -exec grep -h '^[ \t]*\(Exec\|EnvironmentFile\|RootDirectory\|WorkingDirectory\)' {} +) 2>/dev/null
}
{ policy_text | named_paths; running_text | named_paths; cat "$work/more"; } | sort -u > "$work/named"
while IFS= read -r named; do look "$named"; done < "$work/named"

# The first line of each of them that is a script: it names the interpreter that root runs.
while IFS= read -r named; do
    if ! resolve "$named" || [ ! -f "$root$real" ] || [ ! -r "$root$real" ]; then continue; fi
    first=
    { read -r first < "$root$real"; } 2>/dev/null
    case $first in '#!'*) printf '%s\t%.200s\n' "$named" "$first" ;; esac
done < "$work/named" > "$work/listing" 2>/dev/null
cut -f 2 "$work/listing" | sed 's/^#!//' | named_paths | sort -u > "$work/interpreters"
listing scripts 'first lines of scripts'
while IFS= read -r named; do look "$named"; done < "$work/interpreters"
