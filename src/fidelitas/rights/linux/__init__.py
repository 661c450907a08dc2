"""The rights on a Linux host: who exists, what sudo, files, programs, keys and PAM give, and who is logged in now."""
