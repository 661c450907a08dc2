# -- secrets: masked before anything of them is kept ------------------------------------------------------------------------------------

# The table of what takes a secret where, a row a line: see fidelitas/masking/secrets.toml.
cat > "$work/mask.rows" << 'END_OF_ROWS'
@SECRETS@
END_OF_ROWS
cat > "$work/mask.awk" << 'END_OF_PROGRAM'
@MASK@
END_OF_PROGRAM

# masked [FORM [ACCOUNTS]]: a filter that masks the secrets in a text, with as many bytes as they had, so that lines and columns hold; of a
# log also what was typed for a name at a failed login and is not the name of one of the ACCOUNTS, a file.
masked() { awk -v form="${1:-shell}" -v accounts="${2:-}" -v rows="$work/mask.rows" -f "$work/mask.awk"; }
masked_policy() { masked sudoers; }
masked_doas() { masked doas; }
# Of a record of systemd in JSON (systemd.io/USER_RECORD): whether there are passwords, and not what they are.
masked_record() {
    awk '
    { text = text $0 "\n" }
    END {
        gsub(/"hashedPassword"[ \t\n]*:[ \t\n]*\[[ \t\n]*"[^]]*\]/, "\"hashedPassword\":[\"-\"]", text)
        gsub(/"(hashedPassword|recoveryKey|data|salt|password|tokenPin|pkcs11Pin|fido2HmacCredential)"[ \t\n]*:[ \t\n]*"[^"]*"/, "\"masked\":\"-\"", text)
        gsub(/"(password|tokenPin|pkcs11Pin|fido2HmacCredential)"[ \t\n]*:[ \t\n]*\[[^]]*\]/, "\"masked\":[]", text)
        printf "%s", text
    }'
}
