"""What a directory prints and keeps: LDIF, and sudo rules as objects."""
