# The same as masked_lines() of this package, for the probe.  The names of functions and steps are the same; a test compares the two.
# -v form=shell, sudoers, doas or json; -v rows=FILE: the table, from awk_program(); -v accounts=FILE: the text is a log of a host with these
# accounts, so that what was typed for a name at a failed login, and is none, may be a password.

BEGIN {
    while ((getline line < rows) > 0) {
        split(line, field, "\t")
        if (field[1] == "head") head[field[2]] = field[3]
        else {
            options++
            programs[options] = field[1]; option[options] = field[2]; value[options] = field[3]; condition[options] = field[4]
            if (field[1] == "") any_option = any_option (any_option == "" ? "" : "|") field[2]
            else any_program = any_program (any_program == "" ? "" : "|") field[1]
        }
    }
    close(rows)
    assignment = "(^|[,;&?{([/'\"=-])(-*" head["names"] ")(\\\\?=|[?]?:=)"
    before = "^[,;&?{([/'\"=-]"
    not_name = "(^|[,;&?{([/'\"=-])-*(" head["not"] ")$"
    a_name = "^-*" head["names"] "$"
    word_of["shell"] = "^(([^ \t\"'\\\\]|\\\\.|\"([^\"\\\\]|\\\\.)*\"|'[^']*')+|[\"'\\\\])"
    word_of["doas"] = word_of["shell"]
    word_of["sudoers"] = "^(([^ \t,:=\"\\\\]|\\\\.|\"[^\"]*\")+|[,:=]+|[\"\\\\])"
    word_of["json"] = "^(([^ \t\"'\\\\]|\\\\[^\"]|\\\\\"([^\"\\\\]|\\\\[^\"])*\\\\\"|'[^'\"]*')+|[\"'\\\\])"
    url = "^[^/:@]*[^/:@\\\\]\\\\?:"
    longest = 16384
    if (accounts != "") {
        while ((getline line < accounts) > 0) account[line]
        close(accounts)
    }
}

{ print masked_line(accounts == "" ? $0 : nameless($0)) }

# Failed logins: a line without what was typed for a name, where no account has that name.
function nameless(line,   start, rest, size, name, kind) {
    if (!match(line, /([Ii]nvalid|[Ii]llegal|nonexistent|wrong) user |received for user |check pass; user [(]|bad username [[]|getpwnam[(]|pam_(winbind|userdb)[(][^)]*[)]: user [`']|pam_ldap[(][^)]*[)]: [A-Za-z ]*; user=|pam_krb5[(][^)]*[)]: authentication failure; logname=|information about user |not met by user "|pam_[a-tv-z][a-z_]*\([^)]*:auth\): authentication failure;.* user=|FAILED LOGIN .* FOR '?|type=USER_[A-Z]+ .* acct="/)) {
        if (!match(line, /type=USER_[A-Z]+ .* acct=/)) return line
        size = 1 # in hexadecimal digits
    }
    start = RSTART + RLENGTH
    rest = substr(line, start)
    kind = substr(line, RSTART, RLENGTH)
    if (index(line, " acct=")) {
        if (line !~ / res=(failed|0|no)/ || (line ~ /exe="[^"]*\/sshd"/ && line !~ /op=PAM:/)) return line
        match(rest, size ? "^[0-9A-F]*" : "^[^\"]*")
        size = RLENGTH
    } else if (length(rest) > 2000) size = length(rest)
    else if (kind ~ /received for user $/) size = up_to(rest, ": [0-9]+ [(]")
    else if (kind ~ /pass; user [(]$/) size = up_to(rest, "[)] unknown")
    else if (kind ~ /getpwnam[(]$/) size = up_to(rest, "[)][)]")
    else if (kind ~ /[[]$/) size = up_to(rest, "[]]")
    else if (kind ~ /user [`']$/) size = up_to(rest, "' (denied|granted|not|OK|account|password|needs|new)")
    else if (kind ~ /logname=$/) size = up_to(rest, " uid=[0-9]+ euid=")
    else size = name_size(rest)
    name = substr(rest, 1, size)
    if (size < 1 || name in account || name ~ /^[(?]/) return line
    return substr(line, 1, start - 1) mask(name) substr(rest, size + 1)
}
# How long a typed name is: it ends where the last of the words begin that the program writes after it.
function name_size(rest,   at) {
    if ((at = last_match(rest, " from [^ \"]+ port [0-9]+"))) return at - 1
    if ((at = last_match(rest, " [0-9a-fA-F.:]+ port [0-9]+"))) return at - 1
    if ((at = last_match(rest, " from [^ \"]+"))) return at - 1
    if ((at = last_match(rest, "', "))) return at - 1
    if ((at = last_match(rest, ", "))) return at - 1
    if ((at = last_match(rest, " [[]preauth[]]"))) return at - 1
    return (at = index(rest, "\"")) ? at - 1 : length(rest)
}
function up_to(text, pattern,   at) { return (at = last_match(text, pattern)) ? at - 1 : (at = index(text, "\"")) ? at - 1 : length(text) }
function last_match(text, pattern,   at) {
    at = 0
    while (match(substr(text, at + 1), pattern)) at += RSTART
    return at
}

function masked_line(line,   low, found) {
    if (inside) {
        inside = line !~ /-----END [A-Z0-9 ]*PRIVATE KEY( BLOCK)?-----/
        return inside ? mask(line) : line
    }
    if (match(line, /-----BEGIN [A-Z0-9 ]*PRIVATE KEY( BLOCK)?-----/)) {
        inside = line !~ /-----END [A-Z0-9 ]*PRIVATE KEY( BLOCK)?-----/
        if (!inside) line = substr(line, 1, RSTART + RLENGTH - 1) mask(substr(line, RSTART + RLENGTH))
    }
    low = tolower(line)
    if (low !~ head["hint"]) return line
    if (length(line) > longest) return masked_words(substr(line, 1, longest), form, substr(low, 1, longest), 0) mask(substr(line, longest + 1))
    return masked_words(line, form, low, 0)
}

function mask(secret,   size, twos, out) {
    size = length(secret)
    if (size < 2) return substr("?", 1, size)
    twos = size % 3 == 0 ? 0 : size % 3 == 1 ? 2 : 1
    out = repeated("\342\200\242", (size - 2 * twos) / 3)
    while (twos-- > 0) out = out "\302\244"
    return out
}
function repeated(text, times,   out) {
    while (times > 0) {
        if (times % 2 == 1) out = out text
        text = text text
        times = int(times / 2)
    }
    return out
}
function is_masked(text) { return index(text, "\342\200\242") || index(text, "\302\244") }

# The state of a line by its depth: the last program, how the next word is secret, the form and the whole line.
function masked_words(line, kind, low, depth,   out, pattern, size) {
    program[depth] = ""; awaited[depth] = ""; kind_of[depth] = kind; whole_line[depth] = low
    pattern = word_of[kind]
    while (line != "") {
        if (match(line, /^[ \t]+/)) size = RLENGTH
        else if (match(line, pattern)) { size = RLENGTH; out = out masked_word(substr(line, 1, size), substr(low, 1, size), depth); line = substr(line, size + 1); low = substr(low, size + 1); continue }
        else size = 1
        out = out substr(line, 1, size)
        line = substr(line, size + 1)
        low = substr(low, size + 1)
    }
    return out
}

function masked_word(word, low, depth,   lead, bare, found) {
    lead = 0
    while (lead < length(low)) {
        if (substr(low, lead + 1, 2) == "\\\"") lead += 2
        else if (index("\"'({[<$`", substr(low, lead + 1, 1))) lead++
        else break
    }
    bare = substr(low, lead + 1)
    if (awaited[depth] != "") return awaited_word(word, low, bare, depth)
    if (bare == "|" || bare == "||" || bare == "&&" || bare == ";" || bare == "&" || (kind_of[depth] == "sudoers" && bare == ",")) {
        program[depth] = ""
        return word
    }
    if (depth < 3 && lead && bare ~ /[ \t]/) return quoted_word(word, low, lead, depth)
    matched = 0
    found = found_in(word, low, bare, lead, depth)
    note_program(bare, depth)
    if (matched) return found
    if (depth < 3 && low ~ /[ \t]/ && match(low, /["']/)) return quoted_word(word, low, RSTART, depth) # a command line in quotes
    return word
}

function awaited_word(word, low, bare, depth,   how) {
    how = awaited[depth]
    awaited[depth] = ""
    if (how == "second") { awaited[depth] = "next"; return word }
    if (how == "=") {
        if (bare == "=" || bare == ":=") { awaited[depth] = "next"; return word }
        return masked_word(word, low, depth)
    }
    if (how == "header" && bare ~ /^(basic|bearer|digest|token|negotiate|apikey|aws4-hmac-sha256)$/) { awaited[depth] = "next"; return word }
    if (kind_of[depth] == "sudoers" && (bare == "," || bare == ":" || bare == "=")) return word
    if (how == "colon" || how == "percent") return after(word, 0, how)
    if (how == "next" && bare ~ /^-./ && kind_of[depth] != "json" && bare !~ / /) return masked_word(word, low, depth)
    return whole(word, 0)
}

function quoted_word(word, low, lead, depth,   end) {
    end = length(word)
    while (end > lead && index("\"')}]>`;", substr(word, end, 1))) end--
    return substr(word, 1, lead) masked_words(substr(word, lead + 1, end - lead), kind_of[depth] == "json" ? "shell" : kind_of[depth], substr(low, lead + 1, end - lead), depth + 1) substr(word, end + 1)
}

# Sets `matched` where there is something to mask or to wait for.
function found_in(word, low, bare, lead, depth,   row, taken, at, start, end, count, number, row_list) {
    count = program[depth] != "" || bare ~ any_option ? split(rows_of(program[depth]), row_list, " ") : 0
    for (number = 1; number <= count; number++) {
        row = row_list[number]
        if (condition[row] != "" && whole_line[depth] !~ condition[row]) continue
        if (!match(bare, option[row])) continue
        taken = taken_by(value[row], word, lead + RLENGTH, substr(bare, RLENGTH + 1), depth)
        if (matched) return taken
    }
    at = index(bare, "://")
    if (at && match(substr(bare, at + 3), url)) {
        start = at + 1 + RLENGTH
        at = last_at(bare)
        if (at > start + 1) {
            end = lead + at - 1
            start += lead + 1
            if (substr(word, end, 1) == "\\") end--
            matched = 1
            return substr(word, 1, start) mask(substr(word, start + 1, end - start)) substr(word, end + 1)
        }
    }
    return assigned(word, low, bare, lead, depth)
}
# The rows that are about a program, worked out once: awk compiles an expression anew each time that another was used before it.
function rows_of(name,   row, list) {
    if (name in rows_known) return rows_known[name]
    for (row = 1; row <= options; row++) if (programs[row] == "" || name ~ programs[row]) list = list " " row
    if (++rows_kept > 1000) { split("", rows_known); rows_kept = 0 }
    return rows_known[name] = list
}
function last_at(text,   at) {
    for (at = length(text); at > 0; at--) if (substr(text, at, 1) == "@") return at
    return 0
}

function taken_by(how, word, start, rest, depth,   left) {
    left = rest
    while (left != "" && index("\"')}]>`;", substr(left, 1, 1))) left = substr(left, 2)
    while (left != "" && index("\"')}]>`;", substr(left, length(left), 1))) left = substr(left, 1, length(left) - 1)
    if (how == "word") { matched = 1; return whole(word, start - 1) }
    if (how == "next" || how == "second" || how == "header") {
        if (left != "") {
            if (how != "header") return ""
            matched = 1
            return whole(word, start)
        }
        matched = 1
        awaited[depth] = how
        return word
    }
    if (left == "") {
        if (how == "either" || how == "colon" || how == "percent") { matched = 1; awaited[depth] = how == "either" ? "next" : how; return word }
        return ""
    }
    if (how == "colon" || how == "percent") { matched = 1; return after(word, start, how) }
    if (how == "quoted" && substr(word, start, 1) != "\"") return ""
    matched = 1
    return whole(word, start)
}

function after(word, start, how,   at) {
    at = index(substr(word, start + 1), how == "colon" ? ":" : "%")
    return at ? whole(word, start + at) : word
}

function assigned(word, low, bare, lead, depth,   start, out, at, rest, begin, stop, size, end, any) {
    if (kind_of[depth] == "doas" && index(whole_line[depth], "setenv") && match(bare, /^[a-z0-9_]+=/)) {
        matched = 1
        return substr(bare, 1, RLENGTH - 1) ~ ("^" head["plain"] "$") ? word : whole(word, lead + RLENGTH)
    }
    start = lead
    at = 0
    while (match(substr(low, start + 1), assignment)) {
        # As anchored in Python: "^" is the beginning of the word, not of what is left of it.
        begin = start + RSTART
        stop = start + RSTART + RLENGTH - 1
        if (RSTART == 1 && start > lead && substr(low, begin, 1) !~ before) {
            rest = substr(low, start + 2)
            if (!match(rest, "[,;&?{([/'\"=-]")) break
            start += RSTART
            continue
        }
        name = substr(low, 1, stop)
        sub(/(\\?=|[?]?:=)$/, "", name)
        if (name ~ not_name) { start = stop; continue }
        end = length(word)
        if ((begin - 1 > lead || substr(low, begin, 1) ~ "^[,;&?{([/'\"]") && substr(low, begin, 1) != "=") {
            if (match(substr(low, stop + 1), /[],;&})]/)) end = stop + RSTART - 1
        }
        out = out substr(word, at + 1, stop - at) whole(substr(word, stop + 1, end - stop), 0)
        at = start = end
        any = 1
    }
    if (any) { matched = 1; return out substr(word, at + 1) }
    if (kind_of[depth] != "json" && bare ~ a_name && bare !~ not_name) awaited[depth] = bare ~ /^-/ ? "next" : "="
    return ""
}

function whole(word, start,   end, secret, one) {
    end = length(word)
    while (start < end && index("\"'", substr(word, start + 1, 1))) start++
    while (start + 1 < end && substr(word, start + 1, 2) == "\\\"") start += 2
    while (end > start && index("\"';)}", substr(word, end, 1))) end -= end - 2 >= start && substr(word, end - 1, 2) == "\\\"" ? 2 : 1
    secret = substr(word, start + 1, end - start)
    one = substr(secret, 1, 1)
    if (secret == "" || one == "$" || one == "`" || substr(secret, 1, 2) == "%{" || substr(secret, 1, 2) == "{{" || is_masked(secret)) return word
    return substr(word, 1, start) mask(secret) substr(word, end + 1)
}

function note_program(bare, depth) {
    if ((index(bare, "/") || index(bare, "=") || bare ~ /^[a-z]/) && bare ~ any_program) program[depth] = bare
    else if (bare ~ /[;|]$/) program[depth] = ""
}
