"""The accounts and groups of a host, and what it takes from a directory: shared by the hosts and by what goes across them."""
