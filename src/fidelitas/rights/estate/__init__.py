"""What goes across subjects: hosts that state the same, keys from host to host, sockets into database servers."""
