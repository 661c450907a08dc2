"""The report for people who do not use a terminal: what it says, that every link leads somewhere, that hostile names do nothing; and how a
real browser takes it: nothing is loaded, nothing is refused by its own policy, filters work, it prints.
"""

import base64
import csv
import hashlib
import html
import json
import re
import shutil
import sqlite3
import subprocess
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path

import pytest

from fidelitas.audit import audit
from fidelitas.facts import Place
from fidelitas.findings import Finding, Severity
from fidelitas.pages.content import Asked, content_of
from fidelitas.pages.pictures import Trend, TrendPoint, bars_of, matrix_of
from fidelitas.pages.rendering import rendered
from fidelitas.pages.week import week_of
from support import GROUP, PASSWD, Put, bundle, fidelitas, packed

HOSTILE = "<script>alert(1)</script>\u202e\"'><img src=x onerror=alert(2)>" + "x" * 2000


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The report of the demo."""
    folder = tmp_path_factory.mktemp("report")
    assert fidelitas("demo", "estate", cwd=folder).status == 0
    asked = ("--people", "estate/people.csv", "--charter", "estate/charter.toml", "--ledger", "estate/ledger")
    ran = fidelitas("report", "--out", "report.html", *asked, cwd=folder, env={"TZ": "UTC"})
    assert ran.status == 0, ran.err
    assert fidelitas("report", "--out", "report.html", *asked, cwd=folder).status == 2  # it is there already
    assert (folder / "report.html").stat().st_mode & 0o777 == 0o600
    return folder / "report.html"


def test_it_says_in_short_what_matters(page: Path) -> None:
    text = page.read_text()
    folder = page.parent
    honoured = ("--charter", "estate/charter.toml", "--people", "estate/people.csv")
    rows = fidelitas("findings", *honoured, "--ledger", "estate/ledger", "--format", "json", cwd=folder).json["findings"]
    critical = sum(one["severity"] == "critical" for one in rows)
    assert f"{critical} critical and " in text
    assert "have full control of 8 of 8 systems" in text
    assert "sysop gained root on curlew" in text
    summary = fidelitas("survey", *sorted((folder / "estate").glob("*.tar")), "--ledger", "again", cwd=folder).out
    for name in ("curlew", "tides-db", "avocet"):
        system, administrators, escalations = re.search(
            rf"^{name} +(\S.*?)  +(any account|\d+) +(any account|\d+) ", summary, re.MULTILINE
        ).groups()  # type: ignore[union-attr]
        row = re.search(rf"<th scope=.row.>{name}<.*?</tr>", text, re.DOTALL)[0]  # type: ignore[index]
        assert re.findall(r">(any account|\d+)</td>", row)[:2] == [administrators, escalations], (system, row)
    trend = re.search(r"2026-11-20: (\d+) holders of full control", text)
    assert trend is not None
    assert f"{trend[1]} people and accounts have full control" in text
    assert "Charter warrant 5" in text
    assert "Review 2026-autumn" in text
    whole = html.unescape(text)
    for one in rows:
        assert one["message"] in whole
    holders = fidelitas("holders", "--ledger", "estate/ledger", "--each", "--format", "json", cwd=folder).json["holdings"]
    assert len(re.findall(r"<tr id=.h\d+. data-strength=", text)) == len(holders)


def test_every_link_leads_somewhere_and_nothing_comes_from_elsewhere(page: Path) -> None:
    text = page.read_text()
    anchors = set(re.findall(r'\bid="([^"]+)"', text))
    links = set(re.findall(r'href="([^"]+)"', text))
    assert all(link.startswith("#") for link in links)
    assert {link[1:] for link in links} <= anchors
    assert not re.findall(r"\b(?:src|srcset|action|data|poster|xlink:href)=", re.sub(r"<script>.*?</script>", "", text, flags=re.DOTALL))
    assert not re.findall(r'<[^>]*\s(?:style|on\w+)="', text)


def test_its_policy_allows_its_own_style_and_script_alone(page: Path) -> None:
    text = page.read_text()
    policy = html.unescape(re.findall(r'Content-Security-Policy" content="([^"]+)"', text)[0])
    assert policy.startswith("default-src 'none';")
    for name in ("style", "script"):
        inside = re.findall(rf"<{name}>(.*?)</{name}>", text, re.DOTALL)
        assert len(inside) == 1
        assert f"{name}-src 'sha256-{base64.b64encode(hashlib.sha256(inside[0].encode()).digest()).decode()}'" in policy


def hostile() -> str:
    """Return a report about names that want to be obeyed."""
    passwd = PASSWD + f"{HOSTILE.replace(':', '')}:x:1500:1500:{HOSTILE}:/home/x:/bin/sh\n"
    evidence = bundle("ALL ALL=(ALL) NOPASSWD: ALL\n", {"/etc/passwd": Put(passwd), "/etc/group": Put(GROUP)})
    found = audit([evidence])
    finding = Finding(
        check="x.y", severity=Severity.HIGH, subject="knot", about=HOSTILE, message=HOSTILE, why=HOSTILE, advice=HOSTILE, safer=HOSTILE,
        places=(Place("knot", "/etc/passwd", 1),), quote=HOSTILE,
    )  # fmt: skip
    asked = Asked(
        survey=HOSTILE, subjects=found.subjects, findings=[*found.findings, finding], evidence=lambda _: evidence, tags={"knot": (HOSTILE,)},
        since=[HOSTILE], glossary=[(HOSTILE, HOSTILE)], trend=Trend((TrendPoint(HOSTILE, 1, 2), TrendPoint("2026", 3, 1))),
    )  # fmt: skip
    return rendered(content_of(asked))


def test_hostile_names_do_nothing() -> None:
    text = hostile()
    outside = re.sub(r"<(script|style)>.*?</\1>", "", text, count=2, flags=re.DOTALL)
    assert "<script>alert" not in outside
    assert "<img" not in outside
    assert "\u202e" not in text
    assert "x" * 1000 not in text


def test_a_place_without_text_and_an_estate_without_anything_are_said() -> None:
    nothing = Asked(survey="2026", subjects=[], findings=[], evidence=lambda _: None)
    text = rendered(content_of(nothing))
    assert "0 accounts have full control of 0 of 0 systems" in text
    assert "No critical or high problem was found." in text
    found = audit([bundle()])
    assert "it holds no text of it" in rendered(
        content_of(Asked(survey="2026", subjects=found.subjects, findings=found.findings, evidence=lambda _: None))
    )


ROW = re.compile(r'<tr id="h(\d+)".*?row">(.*?)</th><td>(\S+?)(?: <span class="where">the same on (.*?)</span>)?</td><td>(.*?)</td>')


def reported(folder: Path, policies: dict[str, str]) -> tuple[str, set[tuple[str, str, str]], list[tuple[str, str, str]]]:
    """Return the report of hosts with some policies, the holdings that its table has, and those that there are: holder, system, right."""
    for name, policy in policies.items():
        (folder / f"{name}.tar").write_bytes(packed(policy, name=name))
    assert fidelitas("survey", *sorted(folder.glob("*.tar")), cwd=folder).status in (0, 1, 3)
    assert fidelitas("report", cwd=folder).status in (0, 3)
    text = (folder / "report.html").read_text()
    table = {
        (html.unescape(holder), name, html.unescape(right))
        for _, holder, system, others, right in ROW.findall(text)
        for name in (system, *others.split())
    }
    held = csv.DictReader(fidelitas("holders", "--each", "--format", "csv", cwd=folder).out.splitlines())
    return text, table, [(one["holder"], one["subject"], one["right"]) for one in held]


def test_of_equal_systems_one_stands_for_all(tmp_path: Path) -> None:
    policy = "rada ALL=(ALL) ALL\nines ALL=(root) /usr/bin/vim, /usr/bin/id\n"
    text, table, held = reported(tmp_path, {"curlew": policy, "dunlin": policy, "knot": "ines ALL=(ALL) ALL\n", "tern": policy})
    assert table == set(held)
    assert len(ROW.findall(text)) < len(held)
    assert len(re.findall("the same rights as on curlew", text)) == 2
    assert "holdings the table has" not in text
    full = Counter(holder for holder, _, right in held if right == "root")
    for name in ("rada", "ines"):
        assert re.search(rf"<summary>{name} <span class=.where.>(?:full control|can obtain full control) of (\d) of 4", text)
    assert f"full control of {full['rada']} of 4 systems" in text
    (finding,) = (
        one for one in re.findall(r"<summary><span class=.severity.>.*?</details>", text, re.DOTALL) if "ines may run /usr/bin/vim" in one
    )
    assert "(curlew dunlin tern)" in finding
    assert ">ines</a>: root on curlew and 2 more (certain)" in finding


def test_of_very_many_holdings_those_that_reach_furthest_are_in_the_table_and_that_is_said(tmp_path: Path) -> None:
    many = ", ".join(f"/opt/gauges/read{number}" for number in range(3400))
    text, table, held = reported(tmp_path, {"knot": f"rada, ines, tomas ALL=(root) {many}\nines ALL=(root) /usr/bin/vim\n"})
    assert f"Of {len(set(held))} holdings the table has {len(table)}" in text
    assert len(table) < len(held)
    assert {one for one in held if one[2] == "root"} <= table <= set(held)
    tomas = re.search(r"<summary>tomas .*?</details>", text, re.DOTALL)
    assert tomas is not None
    assert re.search(r"and \d{4} more", tomas[0])
    anchors = set(re.findall(r'\bid="([^"]+)"', text))
    assert set(re.findall(r'href="#([^"]+)"', text)) <= anchors
    stated = fidelitas("findings", "--format", "json", cwd=tmp_path).json["findings"]
    assert len(stated) > 3000  # each quotes a rule of 70,000 characters
    assert {len(one["text"]) for one in stated if one["check"] == "sudo.unjudged-program"} == {1000 + len("… (70,000 characters)")}
    links = fidelitas("why", "tomas", "knot", "--format", "json", cwd=tmp_path).out
    assert "characters)" in links
    assert len(links) < 3400 * 3000


def test_when_privilege_was_used_is_what_usage_lists(page: Path) -> None:
    asked = ("usage", "--kind", "used", "--events", "--ledger", "estate/ledger", "--format", "jsonl")
    lines = fidelitas(*asked, cwd=page.parent, env={"TZ": "UTC"}).out.splitlines()
    at = [datetime.fromisoformat(json.loads(line)["time"]) for line in lines]
    drawn = re.findall(r"<title>(\w{3}) (\d+):00: (\d+)</title>", page.read_text())
    assert {(day, int(hour)): int(count) for day, hour, count in drawn} == Counter((f"{one:%a}", one.hour) for one in at)
    assert f">{len(at)} uses from {min(at):%Y-%m-%d} to {max(at):%Y-%m-%d}, by the clock of UTC" in page.read_text()


def test_what_is_held_and_used_is_what_holders_and_usage_say(page: Path) -> None:
    mapped = fidelitas("people", "estate/people.csv", "--ledger", "estate/ledger", "--format", "json", cwd=page.parent).json["people"]
    person = {(one["subject"], one["account"]): row["person"] for row in mapped for one in row["accounts"]}
    assert fidelitas("export", "tables", "--ledger", "estate/ledger", cwd=page.parent).status == 0
    query = "select distinct holder, subject from holdings where \"full\" and granted and holder_kind in ('account', 'role')"
    with closing(sqlite3.connect(page.parent / "tables" / "fidelitas.sqlite")) as database:
        full = {(person.get((on, name), name), on) for name, on in database.execute(query)}
    lines = fidelitas("usage", "--kind", "used", "--ledger", "estate/ledger", "--format", "jsonl", cwd=page.parent).out.splitlines()
    events = [json.loads(line) for line in lines]
    logged = {one["place"]["subject"] for one in events}
    used = {
        (person.get((one["place"]["subject"], one["persons"][0]), one["persons"][0]), one["place"]["subject"])
        for one in events
        if len(one["persons"]) == 1
    }
    expected = {name: [sum(1 for who, on in some if who == name and on in logged) for some in (full, full & used)] for name, _ in full}
    drawn = re.search(r'aria-label="([^"]*: held on [^"]*)"', page.read_text())
    assert drawn is not None
    told = {
        name: [int(held), int(used)] for name, held, used in re.findall(r"([^;]+?): held on (\d+), used on (\d+)", html.unescape(drawn[1]))
    }
    assert {name.strip(): numbers for name, numbers in told.items()} == {
        name: numbers for name, numbers in expected.items() if numbers[0] and name != "root"
    }


def test_what_rests_on_a_finding_is_drawn_link_by_link(page: Path) -> None:
    text = page.read_text()
    finding = re.search(r'<details class="filtered critical".*?</details>', text, re.DOTALL)
    assert finding is not None
    (row,) = re.findall(r'What rests on it</h3>\s*<p><a href="#(h\d+)">sysop</a>: root on curlew', finding[0])[:1]
    assert re.search(rf'<tr id="{row}".*?root.*?</tr>', text, re.DOTALL)
    assert re.search(r"<ol><li>sysop → root", finding[0])
    excerpt = re.search(r"<pre>(.*?)</pre>", finding[0], re.DOTALL)
    assert excerpt is not None
    assert [int(line.partition(" ")[0]) for line in re.sub("<[^>]*>", "", excerpt[1]).splitlines()] == list(range(25, 31))


def test_a_week_is_that_of_the_reader() -> None:
    friday = datetime(2026, 11, 20, 23, 30, tzinfo=UTC)
    late, early = (int(at.timestamp()) // 900 for at in (friday, friday.replace(hour=9)))
    week = week_of([{late: 1, early: 1}, {late: 1}], timezone(timedelta(hours=1), "CET"))
    assert [(one.day, one.hour, one.count, one.level) for one in week.hours] == [(4, 10, 1, 2), (5, 0, 2, 4)]
    assert (week.total, week.outside, week.zone, week.begin, week.end) == (3, 2, "CET", "2026-11-20", "2026-11-21")


def test_how_far_rights_reach_is_drawn_and_those_alike_are_together() -> None:
    found = matrix_of({"b": {0: 0}, "a": {1: 2}, "c": {0: 0, 1: 1}}, [("h1",), ("h2",)])
    assert {(found.rows[one.row], found.columns[one.column]): one.kind for one in found.cells} == {
        ("b", "h1"): "full", ("c", "h1"): "full", ("c", "h2"): "obtainable", ("a", "h2"): "limited",
    }  # fmt: skip
    assert (found.rows, found.columns) == (("c", "b", "a"), ("h1", "h2"))
    many = matrix_of({f"n{one}": {one: 0} for one in range(100)}, [(f"h{one}",) for one in range(100)])
    assert (len(many.rows), many.hidden) == (40, (60, 70))
    equal = matrix_of({"a": {0: 1}, "b": {0: 2, 1: 0}}, [("h1", "h3", "h4"), ("h2",)])
    assert (equal.rows, equal.columns, len(equal.cells)) == (("b", "a"), ("h2", "h1", "h3", "h4"), 7)
    assert [bar.length for bar in bars_of({"x": 4, "y": 1}, ["x", "y", "z"])] == [220, 55, 0]


# -- in a browser ------------------------------------------------------------------------------------------------------------------------


def browse(file: Path, *options: str) -> subprocess.CompletedProcess[str]:
    """Open a file in Chromium, with no network, and return what it printed."""
    base = [
        "chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking", "--disable-sync",
        "--disable-component-update", "--disable-dev-shm-usage", "--enable-logging=stderr", "--host-resolver-rules=MAP * ~NOTFOUND",
        f"--user-data-dir={file.parent / 'profile'}", "--virtual-time-budget=4000",
    ]  # fmt: skip
    return subprocess.run([*base, *options, f"file://{file}"], capture_output=True, text=True, check=False, timeout=120)


def with_script(text: str, script: str, folder: Path, name: str) -> Path:
    """Write a report with one more script, which its policy lets run."""
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    allowed = text.replace("script-src ", f"script-src &#39;sha256-{digest}&#39; ", 1)
    file = folder / name
    file.write_text(allowed.replace("</body>", f"<script>{script}</script></body>"))
    return file


@pytest.fixture
def browser(need: Callable[..., None]) -> None:
    need("chromium")


FILTERING = """
const input = document.getElementById("holders-t-words");
input.value = "sysop curlew";
input.dispatchEvent(new Event("input"));
setTimeout(() => {
  const shown = Array.from(document.querySelectorAll("#holders-t tbody tr")).filter((row) => !row.hidden);
  const choice = document.getElementById("findings-t-severity");
  choice.value = "critical";
  choice.dispatchEvent(new Event("change"));
  const grave = Array.from(document.querySelectorAll("#findings-t details")).filter((one) => !one.hidden);
  document.querySelector(".answers a, #answers ol a").click();
  const open = document.getElementById(document.querySelector("#answers ol a").hash.slice(1)).open;
  document.title = JSON.stringify([shown.length, shown.every((row) => row.textContent.includes("sysop")), grave.length, open]);
}, 600);
"""


@pytest.mark.usefixtures("browser")
def test_filters_work_and_nothing_is_refused(page: Path, tmp_path: Path) -> None:
    ran = browse(with_script(page.read_text(), FILTERING, tmp_path, "filters.html"), "--dump-dom")
    title = re.findall(r"<title>(\[.*?\])</title>", ran.stdout)
    assert title, ran.stdout[:500]
    count, right, grave, opened = json.loads(html.unescape(title[0]))
    assert count >= 1
    assert right
    assert grave == page.read_text().count('data-severity="critical"')
    assert opened
    assert "CONSOLE" not in ran.stderr, [line for line in ran.stderr.split("\n") if "CONSOLE" in line]


@pytest.mark.usefixtures("browser")
def test_hostile_names_run_nothing_in_a_browser(tmp_path: Path) -> None:
    file = tmp_path / "hostile.html"
    file.write_text(hostile())
    ran = browse(file, "--dump-dom")
    assert "Who holds elevated rights" in ran.stdout
    assert "CONSOLE" not in ran.stderr
    assert "dialog" not in ran.stderr.lower()


@pytest.mark.usefixtures("browser")
def test_it_prints(page: Path, tmp_path: Path) -> None:
    ran = browse(page, f"--print-to-pdf={tmp_path / 'report.pdf'}")
    assert (tmp_path / "report.pdf").read_bytes().startswith(b"%PDF"), ran.stderr[-500:]


@pytest.mark.usefixtures("browser")
def test_it_is_as_accessible_as_axe_can_tell(page: Path, tmp_path: Path) -> None:
    """axe-core of the npm registry, WCAG 2.2 A and AA, in light and in dark."""
    if shutil.which("npm") is None:
        pytest.skip("npm is not installed")
    packed = subprocess.run(["npm", "pack", "axe-core@4.10"], cwd=tmp_path, capture_output=True, text=True, check=False, timeout=120)
    if packed.returncode != 0:
        pytest.skip("axe-core cannot be had from the npm registry here")
    shutil.unpack_archive(next(tmp_path.glob("axe-core-*.tgz")), tmp_path / "axe", "gztar")
    axe = (tmp_path / "axe" / "package" / "axe.min.js").read_text()
    asked = "axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then((found) => { document.title = JSON.stringify(found.violations.map((one) => [one.id, one.nodes.length, one.nodes[0].html.slice(0, 200)])); });"
    for options in ((), ("--force-dark-mode", "--blink-settings=preferredColorScheme=0")):
        file = with_script(page.read_text(), f"{axe};{asked}", tmp_path, f"axe{len(options)}.html")
        ran = browse(file, "--dump-dom", "--virtual-time-budget=30000", *options)
        title = re.findall(r"<title>(\[.*?\])</title>", ran.stdout, re.DOTALL)
        assert title == ["[]"], html.unescape(title[0]) if title else ran.stderr[-800:]
