"""The rights on a MariaDB or MySQL server."""
