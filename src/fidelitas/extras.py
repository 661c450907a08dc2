"""The optional parts of the installation: which libraries each brings, and what to say where one is missing.

The core reads hosts, bundles, files and logs with the standard library, Click, Rich and zstandard alone; where NumPy is there, long logs of
which few lines matter are read faster.
"""

from collections.abc import Iterator
from contextlib import contextmanager

from fidelitas.errors import ReadError

__all__ = ["EXTRAS", "installed_extra"]

# Each extra of pyproject.toml with the modules that it brings and what it is for.
EXTRAS: dict[str, tuple[frozenset[str], str]] = {
    "cluster": (frozenset({"dask", "distributed"}), "to work on a cluster"),
    "directory": (frozenset({"ldap3", "pyasn1"}), "to read a directory over LDAP"),
    "figures": (frozenset({"matplotlib", "numpy"}), "to draw figures"),
    "mariadb": (frozenset({"pymysql"}), "to read a MariaDB or MySQL server"),
    "parquet": (frozenset({"pyarrow"}), "to write Parquet"),
    "peers": (frozenset({"scipy"}), "to put holders together by what they have"),
    "postgresql": (frozenset({"psycopg", "psycopg_binary"}), "to read a PostgreSQL server"),
    "windows": (frozenset({"evtx"}), "to read .evtx files"),
}


@contextmanager
def installed_extra() -> Iterator[None]:
    """Import what is optional within this context: a missing library becomes one line that names the extra and the command.

    Raises `ReadError` for a library of an extra; any other missing module is a defect, and stays what it is.
    """
    try:
        yield
    except ModuleNotFoundError as error:
        module = (error.name or "").partition(".")[0]
        for name, (modules, purpose) in EXTRAS.items():
            if module in modules:
                raise ReadError(f"{module}, needed {purpose}, is not installed: pip install 'fidelitas[{name}]'") from error
        raise
