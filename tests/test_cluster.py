"""The cluster engine, with real workers on the loopback of this machine: the same answers as on one machine, whatever happens to workers."""

import os
import re
import shutil
import signal
import subprocess
from collections.abc import Callable, Iterator, Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from distributed import Client

from cluster import Cluster, cluster
from fidelitas.audit import Audit, Conclude, InMemory, audit
from fidelitas.engines.cluster import ClusterEngine
from fidelitas.evidence import Bundle
from fidelitas.ledger import Ledger, StoredEvidence
from fidelitas.sources.directory import from_ldif
from postgresql_server import BINARIES, Server, scratch_server
from support import NOW, bundle, fidelitas, open_up
from test_conclusions import LDIF
from test_estate import USES_DIRECTORY

pytestmark = pytest.mark.judge
HOSTS = 48
# Each host has a policy of its own; in every third one people of a directory have rights.
POLICY = "ines ALL=(root) /usr/bin/tail -n {n} /var/log/syslog\n%gauge ALL=(ALL) ALL\nunknown{n} ALL=(root) /usr/bin/id\n"


def estate() -> list[Bundle]:
    found = [bundle(POLICY.format(n=n), USES_DIRECTORY if n % 3 == 0 else None, name=f"host{n}") for n in range(HOSTS)]
    return [*found, from_ldif(LDIF.encode(), "saltmarsh").bundle]


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if not (BINARIES / "initdb").exists():
        pytest.skip("PostgreSQL is not installed (apt-get install postgresql)")
    folder = tmp_path_factory.mktemp("postgresql")
    open_up(folder)
    with scratch_server(folder) as running:
        yield running


@pytest.fixture
def ledger(server: Server) -> Iterator[Ledger]:
    """A ledger of its own, with one survey of the estate."""
    name = f"ledger{os.urandom(4).hex()}"
    server.run(f"create database {name}")
    made = Ledger(f"postgresql://postgres@/{name}?host={server.socket}&port={server.port}")
    made.add(estate(), NOW)
    yield made
    made.database.close()


class Disturbed(ClusterEngine):
    """An engine to which something happens once its tasks are given out, and again with its first result."""

    begun: Callable[[], object] = staticmethod(lambda: None)
    first: Callable[[], object] = staticmethod(lambda: None)

    def _by(self, client: Client, function: Callable[[Any], int], left: dict[int, object]) -> Iterator[int]:
        type(self).begun()
        for number, result in enumerate(super()._by(client, function, left)):
            if number == 0:
                type(self).first()
            yield result


def shown(found: Audit) -> object:
    return found.findings, [(one.subject, one.holdings, one.gaps) for one in found.subjects]


def judged(engine: ClusterEngine, stored: StoredEvidence) -> tuple[Audit, int]:
    """Return the audit by an engine, and how many tasks its workers did."""
    done = []

    def each(conclude: Conclude, shares: Sequence[Sequence[str]]) -> Iterator[dict[bytes, bytes]]:
        for kept in engine.judging(stored)(conclude, shares):
            done.append(kept)
            yield kept

    return audit(stored, each=each), max(len(done) - 1, 0)


@pytest.fixture(scope="module")
def expected() -> object:
    return shown(audit(InMemory(estate())))


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Cluster]:
    with cluster(tmp_path, 2) as found:
        yield found


def disturbed(running: Cluster, ledger: Ledger, said: list[str], **what: Callable[[], object]) -> ClusterEngine:
    kind = type("Case", (Disturbed,), {name: staticmethod(one) for name, one in what.items()})
    return kind(running.engine, ledger, said.append)  # type: ignore[no-any-return]


def test_workers_judge_as_one_machine_does(running: Cluster, ledger: Ledger, expected: object) -> None:
    said: list[str] = []
    stored = ledger.newest()
    found, done = judged(disturbed(running, ledger, said), stored)
    assert (shown(found), done, said) == (expected, 16, [])
    again, done = judged(disturbed(running, ledger, said), ledger.newest())
    assert (shown(again), done) == (expected, 0)  # all of it is kept


def test_a_worker_that_is_killed_loses_nothing(running: Cluster, ledger: Ledger, expected: object) -> None:
    """It holds tasks, since it is stopped before; then it is gone."""
    said: list[str] = []
    one = running.workers[0]
    engine = disturbed(running, ledger, said, begun=lambda: one.send_signal(signal.SIGSTOP), first=one.kill)
    found, done = judged(engine, ledger.newest())
    assert (shown(found), done) == (expected, 16)


def test_a_slow_worker_is_waited_for(running: Cluster, ledger: Ledger, expected: object) -> None:
    said: list[str] = []
    one = running.workers[0]
    engine = disturbed(running, ledger, said, begun=lambda: one.send_signal(signal.SIGSTOP), first=lambda: one.send_signal(signal.SIGCONT))
    found, done = judged(engine, ledger.newest())
    assert (shown(found), done, said) == (expected, 16, [])


def test_others_are_asked_where_a_worker_does_not_get_on(
    running: Cluster, ledger: Ledger, expected: object, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What it does later is done twice, and counts once."""
    monkeypatch.setattr("fidelitas.engines.cluster._SECONDS_OF_PATIENCE", 1)
    said: list[str] = []
    one = running.workers[0]
    engine = disturbed(running, ledger, said, begun=lambda: one.send_signal(signal.SIGSTOP))
    found, done = judged(engine, ledger.newest())
    one.send_signal(signal.SIGCONT)
    assert (shown(found), done, said) == (expected, 16, [])


def test_a_worker_of_another_version_is_refused(tmp_path: Path, ledger: Ledger, expected: object, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its tables differ; with a right one beside it that one does all, alone nothing is done there and all of it here."""
    other = tmp_path / "other"
    shutil.copytree(Path(__file__).parent.parent / "src/fidelitas", other / "fidelitas", ignore=shutil.ignore_patterns("__pycache__"))
    with (other / "fidelitas/rights/linux/data/programs.toml").open("a") as table:
        table.write("# another version\n")
    found = Cluster(tmp_path)
    try:
        found.add_worker({"PYTHONPATH": str(other)})
        right = found.add_worker()
        said: list[str] = []
        answer, done = judged(disturbed(found, ledger, said), ledger.newest())
        assert (shown(answer), done) == (expected, 16)
        right.kill()
        right.wait()
        monkeypatch.setattr("fidelitas.engines.cluster._SECONDS_WITHOUT_WORKER", 1)
        with ledger.database.writing() as connection:
            connection.exec_driver_sql("delete from answers")
        answer, done = judged(disturbed(found, ledger, said), ledger.newest())
        assert (shown(answer), done) == (expected, 0)
    finally:
        found.stop()
    assert "is of another version" in said[0]
    assert said[-1] == "16 of 16 parts of the work were not done by the cluster, and are done here"


# Dask's client, closed while it connects anew, now and then leaves a socket to the garbage collector.
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
def test_a_scheduler_that_is_restarted_is_asked_again(tmp_path: Path, ledger: Ledger, expected: object) -> None:
    said: list[str] = []
    first = Cluster(tmp_path)
    workers = [first.add_worker(), first.add_worker()]
    restarted: list[Cluster] = []

    def restart() -> None:
        first.stop()
        second = Cluster(tmp_path, port=first.port)
        second.add_worker()
        restarted.append(second)

    try:
        engine = disturbed(first, ledger, said, begun=lambda: workers[0].send_signal(signal.SIGSTOP) if not restarted else None,
                           first=lambda: None if restarted else restart())  # fmt: skip
        found, _ = judged(engine, ledger.newest())
    finally:
        for one in (first, *restarted):
            one.stop()
    assert shown(found) == expected
    assert len(restarted) == 1


@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")  # as above
@pytest.mark.parametrize("there", ["no scheduler", "no worker"])
def test_what_no_cluster_does_is_done_here(
    there: str, tmp_path: Path, ledger: Ledger, expected: object, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("fidelitas.engines.cluster._SECONDS_WITHOUT_WORKER", 1)
    monkeypatch.setattr("fidelitas.engines.cluster._SECONDS_TO_CONNECT", 1)
    said: list[str] = []
    found = Cluster(tmp_path)
    try:
        if there == "no scheduler":
            found.scheduler.kill()
            found.scheduler.wait()
        answer, done = judged(disturbed(found, ledger, said), ledger.newest())
    finally:
        found.stop()
    assert (shown(answer), done) == (expected, 0)
    assert re.search("was lost|has no worker", said[0])
    assert said[-1] == "16 of 16 parts of the work were not done by the cluster, and are done here"


# -- the program -----------------------------------------------------------------------------------------------------------------------


def test_the_program_says_the_same_by_either_engine(running: Cluster, server: Server, tmp_path: Path) -> None:
    """Judgement, use of privilege, changes and peers; to the byte but for the name of the ledger and the moment."""
    fidelitas("demo", cwd=tmp_path)
    commands: list[list[str]] = [
        ["findings"], ["findings", "--format", "json"], ["holders"], ["holders", "--account", "ines"], ["usage"],
        ["usage", "--format", "json"], ["usage", "--sessions"], ["changes"], ["coverage"], ["peers"],
    ]  # fmt: skip
    answers: dict[str, list[object]] = {}
    made = estate()  # once: a directory says when it was read
    for name, engine in (("first", "local"), ("other", running.engine)):
        server.run(f"create database demo_{name}")
        place = f"postgresql://postgres@/demo_{name}?host={server.socket}&port={server.port}"
        Ledger(place).add(made, NOW - timedelta(days=40))
        exported = tmp_path / f"{name}.sqlite"
        fidelitas("ledger", "export", "last", exported, "--ledger", tmp_path / "demo-estate/ledger", cwd=tmp_path)
        imported = fidelitas("ledger", "import", exported, "--ledger", place, cwd=tmp_path)
        assert imported.status == 0, imported.err
        said = [fidelitas(*command, "--ledger", place, "--engine", engine, cwd=tmp_path) for command in commands]
        answers[name] = [(one.status, re.sub(r'"at": ".*"', "", one.out).replace(f"demo_{name}", "demo"), one.err) for one in said]
    assert answers["first"] == answers["other"]


def test_logs_are_read_by_workers(running: Cluster, server: Server, tmp_path: Path) -> None:
    fidelitas("demo", cwd=tmp_path)
    demo = Ledger(tmp_path / "demo-estate/ledger")
    server.run("create database logs")
    ledger = Ledger(f"postgresql://postgres@/logs?host={server.socket}&port={server.port}")
    ledger.add(demo.bundles(), NOW)
    from fidelitas.logbook import EventFilter  # noqa: PLC0415 brings what the other tests do without
    from fidelitas.logbook_memory import LogbookMemory  # noqa: PLC0415

    said: list[str] = []
    digests = ledger.history_digests(with_logs=True)
    memory = LogbookMemory(ledger.stored_answers(), digests, EventFilter(), lambda: True)
    assert memory.lacking() == set(digests) != set()
    ClusterEngine(running.engine, ledger, said.append).read_logs(ledger, ledger.history_numbers(with_logs=True), EventFilter())
    assert (memory.lacking(), said) == (set(), [])
    ledger.database.close()


@pytest.mark.parametrize(
    ("named", "refusal"),
    [
        ("spark://127.0.0.1", "is not an engine"),
        ("dask://", "is not an engine"),
        ("dask://127.0.0.1:99999", "has an invalid port"),
        ("dask://scheduler.saltmarsh.example:8786", "would be reached without TLS"),
        ("dask://scheduler.saltmarsh.example:8786?tls=nowhere", "ca.pem"),
        ("dask://127.0.0.1:8786", "workers cannot read ledger"),
    ],
)
def test_an_engine_that_cannot_be_meant_is_refused(named: str, refusal: str, tmp_path: Path) -> None:
    Ledger(tmp_path / "ledger").add([bundle("")], NOW)
    said = fidelitas("findings", "--engine", named, "--ledger", tmp_path / "ledger", cwd=tmp_path)
    assert said.status == 2 or "ca.pem" in refusal
    assert refusal in said.err


def test_off_this_machine_both_sides_prove_who_they_are(
    ledger: Ledger, expected: object, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A scheduler with TLS is used with certificates, and by nobody without."""
    folder = tmp_path / "keys"
    folder.mkdir()
    new = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=127.0.0.1"]
    new += ["-addext", "subjectAltName=IP:127.0.0.1", "-keyout", str(folder / "key.pem"), "-out", str(folder / "cert.pem")]
    subprocess.run(new, check=True, capture_output=True)
    shutil.copy(folder / "cert.pem", folder / "ca.pem")  # signed by itself
    files = (("--tls-ca-file", "ca"), ("--tls-cert", "cert"), ("--tls-key", "key"))
    options = tuple(text for flag, name in files for text in (flag, str(folder / f"{name}.pem")))
    said: list[str] = []
    with cluster(tmp_path, 1, options) as running:
        engine = ClusterEngine(f"{running.engine}?tls={folder}", ledger, said.append)
        found, done = judged(engine, ledger.newest())
        assert (shown(found), done, said) == (expected, 16, [])
        with ledger.database.writing() as connection:
            connection.exec_driver_sql("delete from answers")
        monkeypatch.setattr("fidelitas.engines.cluster._SECONDS_TO_CONNECT", 1)
        found, done = judged(ClusterEngine(running.engine, ledger, said.append), ledger.newest())
        assert (shown(found), done, len(said)) == (expected, 0, 2)


def test_workers_let_go_of_their_connections(running: Cluster, ledger: Ledger, server: Server) -> None:
    judged(ClusterEngine(running.engine, ledger, print), ledger.newest())
    ledger.database.close()
    name = str(ledger.place).partition("/ledger")[2].partition("?")[0]
    assert server.ask(f"select count(*) from pg_stat_activity where datname = 'ledger{name}'") == 0
