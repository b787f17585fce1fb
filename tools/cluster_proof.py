"""Measures inspection on a cluster of network namespaces of this computer; prints docs/cluster-figures.md.

    sudo .venv/bin/python tools/cluster_proof.py [PARTS]

Six hosts on a bridge: a scheduler, two workers, an object store, a PostgreSQL server with records, and a line
that gives the commands. The store is moto, a stand-in that speaks S3; it and s3fs are installed into a virtual
environment of their own. Needs root, and iproute2 and postgresql from Debian's packages.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TypeAlias

import psutil

sys.path.insert(0, str(Path(__file__).parent))
from cluster_model import Service, pages

ROOT = Path(__file__).parents[1]
PARTS = 500
READY, FEW = 16, 16
"""Parts that make workers ready, and those by which the beginning of a command is known."""
NAMES = ("scheduler", "first", "second", "store", "line", "records")
HOSTS = {name: f"10.77.0.{k}" for k, name in enumerate(NAMES, 2)}
BRIDGE, BUCKET = "hemtra-proof", "lot"
EXTRA = ("s3fs", "moto[s3]", "flask", "flask-cors", "psycopg[binary]")
ROLES = ("store", "workers", "scheduler", "command", "records")
LOTS = ("ready", "few", "many")


def sh(*words: object, **options: object) -> str:
    """Output of a command that must succeed."""
    return subprocess.run(
        [str(w) for w in words], check=True, stdout=subprocess.PIPE, text=True, **options
    ).stdout


@contextmanager
def hosts() -> Iterator[None]:
    """Namespaces with an address each on one bridge."""
    sh("ip", "link", "add", BRIDGE, "type", "bridge")
    sh("ip", "link", "set", BRIDGE, "up")
    try:
        for name, address in HOSTS.items():
            space = f"hemtra-{name}"
            sh("ip", "netns", "add", space)
            sh("ip", "link", "add", f"h-{name}", "type", "veth", "peer", "name", "eth0", "netns", space)
            sh("ip", "link", "set", f"h-{name}", "master", BRIDGE, "up")
            sh("ip", "-n", space, "addr", "add", f"{address}/24", "dev", "eth0")
            sh("ip", "-n", space, "link", "set", "eth0", "up")
            sh("ip", "-n", space, "link", "set", "lo", "up")
        yield
    finally:
        for name in HOSTS:
            subprocess.run(["ip", "netns", "del", f"hemtra-{name}"], check=False, capture_output=True)
        subprocess.run(["ip", "link", "del", BRIDGE], check=False, capture_output=True)


class Proof:
    """The hosts' programs, in a folder of their own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.python = self._environment()
        self.environment = {
            **{k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"},
            "AWS_ACCESS_KEY_ID": "proof",
            "AWS_SECRET_ACCESS_KEY": "proof",
            "AWS_DEFAULT_REGION": "us-east-1",
            "FSSPEC_S3_ENDPOINT_URL": f"http://{HOSTS['store']}:9000",
            "OMP_NUM_THREADS": "1",
            "OPENBLAS_NUM_THREADS": "1",
            "NUMBA_NUM_THREADS": "1",
        }

    def _environment(self) -> Path:
        """A virtual environment with Hemtra as it is here, and what only this needs."""
        python = self.folder / "venv/bin/python"
        uv = ROOT / ".venv/bin/uv"
        sh(uv, "venv", "-q", "--python", ROOT / ".venv/bin/python", self.folder / "venv")
        sh(uv, "pip", "install", "-q", "--python", python, "-r", ROOT / "requirements.lock", "-e", ROOT)
        sh(uv, "pip", "install", "-q", "--python", python, *EXTRA)
        return python

    @contextmanager
    def program(self, host: str, *words: object, user: str = "", **more: str) -> Iterator[psutil.Process]:
        """A program on a host, until it is no longer needed."""
        command = ["ip", "netns", "exec", f"hemtra-{host}", *(["runuser", "-u", user, "--"] if user else [])]
        log = (self.folder / f"{host}.log").open("ab")
        started = subprocess.Popen(
            [*command, *(str(w) for w in words)],
            env=self.environment | more,
            cwd=self.folder,
            stdout=log,
            stderr=log,
        )
        try:
            yield psutil.Process(started.pid)
        finally:
            for child in psutil.Process(started.pid).children(recursive=True):
                with suppress(psutil.NoSuchProcess):
                    child.terminate()
            started.terminate()
            started.wait()
            log.close()

    def on_line(self, *words: object, allowed: tuple[int, ...] = (0,)) -> None:
        """Run a command on the line."""
        command = ["ip", "netns", "exec", "hemtra-line", *map(str, words)]
        log = self.folder / "line.log"
        with log.open("w") as out:
            ended = subprocess.run(
                command, env=self.environment, cwd=self.folder, stdout=out, stderr=out, check=False
            )
        if ended.returncode not in allowed:
            sys.exit(log.read_text()[-2000:])

    def wait_for(self, host: str, port: int) -> None:
        """Wait until a program of a host answers."""
        asked = f"import socket; socket.create_connection(({HOSTS[host]!r}, {port}), 1).close()"
        for _ in range(60):
            command = ["ip", "netns", "exec", "hemtra-line", str(self.python), "-c", asked]
            if subprocess.run(command, check=False, capture_output=True).returncode == 0:
                return
            time.sleep(0.5)
        sys.exit(f"{host} does not answer: {(self.folder / f'{host}.log').read_text()[-2000:]}")

    def store(self) -> object:
        """The object store."""
        return self.program("store", self.python, "-m", "moto.server", "-H", "0.0.0.0", "-p", 9000)

    @contextmanager
    def records(self) -> Iterator[psutil.Process]:
        """A PostgreSQL server with an empty database."""
        data, port = self.folder / "pg", 5432
        as_postgres = ("runuser", "-u", "postgres", "--")
        self.folder.chmod(0o755)
        data.mkdir()
        shutil.chown(data, "postgres")
        binaries = Path(sh("sh", "-c", "readlink -f $(command -v pg_ctl)").strip()).parent
        sh(*as_postgres, binaries / "initdb", "-D", data, "-A", "trust", "-U", "hemtra", "--no-sync", cwd="/")
        with (data / "pg_hba.conf").open("a") as rights:
            rights.write("host all all 10.77.0.0/24 trust\n")
        options = ("-c", f"listen_addresses={HOSTS['records']}", "-c", f"unix_socket_directories={data}")
        program = (binaries / "postgres", "-D", data, "-p", port, *options)
        with self.program("records", *program, user="postgres") as server:
            self.wait_for("records", port)
            asked = ("-h", HOSTS["records"], "-U", "hemtra", "-c", "create database records", "postgres")
            self.on_line(binaries / "psql", *asked)
            yield server

    @property
    def db(self) -> str:
        """The address of its records."""
        return f"postgresql+psycopg://hemtra@{HOSTS['records']}:5432/records"

    def scheduler(self) -> object:
        """The scheduler."""
        return self.program("scheduler", self.python, "-m", "distributed.cli.dask_scheduler", "--no-dashboard")

    def worker(self, host: str) -> object:
        """A worker of one thread, whose cache of scans is empty."""
        cache = Path(tempfile.mkdtemp(prefix=f"{host}-", dir=self.folder))
        kernels = self.folder / "kernels"
        return self.program(
            host, self.python, "-m", "distributed.cli.dask_worker", f"tcp://{HOSTS['scheduler']}:8786",
            "--nthreads", 1, "--no-dashboard", XDG_CACHE_HOME=str(cache), NUMBA_CACHE_DIR=str(kernels),
        )  # fmt: skip


def spent(process: psutil.Process) -> float:
    """s of a core that a program and its children took."""
    times = [p.cpu_times() for p in (process, *process.children(recursive=True))]
    # of those that have ended, too, as the database's for each connection
    return sum(t.user + t.system + t.children_user + t.children_system for t in times)


@dataclass(frozen=True)
class Measured:
    """parts/s of a run, and s of a core for each part by `ROLES`."""

    rate: float
    each: Mapping[str, float]


Servers: TypeAlias = Mapping[str, psutil.Process]
"""By their role."""


def run(
    proof: Proof, workers: int, commands: Sequence[Sequence[object]], parts: int, servers: Servers
) -> Measured:
    """Evaluate all scans with one worker or two, by three commands.

    The first only makes everything ready. What the second takes for a few more is what every command takes to
    begin; it does not count.
    """
    with ExitStack() as stack:
        scheduler = stack.enter_context(proof.scheduler())
        crew = [stack.enter_context(proof.worker(host)) for host in ("first", "second")[:workers]]
        proof.wait_for("scheduler", 8786)
        roles = {"workers": crew, "scheduler": [scheduler], **{name: [one] for name, one in servers.items()}}

        def once(command: Sequence[object]) -> dict[str, float]:
            def now() -> dict[str, float]:
                mine = os.times()
                own = {"clock": time.monotonic(), "command": mine.children_user + mine.children_system}
                return own | {name: sum(map(spent, held)) for name, held in roles.items()}

            before = now()
            # 1: a part that does not pass, or another verdict
            on = ("--on", f"tcp://{HOSTS['scheduler']}:8786")
            proof.on_line(proof.python, "-m", "hemtra", *command, *on, allowed=(0, 1))
            return {name: value - before[name] for name, value in now().items()}

        _, few, many = map(once, commands)
        more = parts - READY - 2 * FEW
        each = {name: (many[name] - few[name]) / more for name in many}
        print(f"{workers}: {few} {many}", file=sys.stderr)
        return Measured(1.0 / each.pop("clock"), each)


def measured(proof: Proof, parts: int) -> None:
    """All runs, printed."""
    from hemtra.runtime.demo import PLAN_FILE, TRAY, write_demo

    demo = proof.folder / "demo"
    write_demo(demo)
    plan, scans = demo / PLAN_FILE, sorted((demo / TRAY).glob("*.x3p"))
    size = sum(scan.stat().st_size for scan in scans) / len(scans)
    local = [str(scans[k % len(scans)]) for k in range(parts)]
    found: dict[str, dict[int, Measured]] = {}
    with ExitStack() as stack:
        servers = {
            "store": stack.enter_context(proof.store()),
            "records": stack.enter_context(proof.records()),
        }
        addresses = uploaded(proof, scans, parts)
        other = recorded(proof, plan, scans[0], parts)
        again = [
            ("records", "reevaluate", other, "--db", proof.db, "--scans", f"s3://{BUCKET}", "--lot", lot)
            for lot in LOTS
        ]
        for title, commands in (
            ("from files of the worker", inspecting(proof, plan, local)),
            ("from the store", inspecting(proof, plan, addresses)),
            ("from the store, records in PostgreSQL", again),
        ):
            found[title] = {n: run(proof, n, commands, parts, servers) for n in (1, 2)}
    print(HEAD.format(parts=parts, size=size / 1e6, total=parts * size / 1e9))
    for title, measured in found.items():
        one, two = measured[1], measured[2]
        each = " | ".join(f"{1000 * one.each[name]:.0f}" for name in ROLES)
        print(f"| {title} | {one.rate:.2f} | {two.rate:.2f} | {two.rate / one.rate:.2f} | {each} |")
    # the database comes with the last
    each = dict(measured[1].each)
    service = Service(each.pop("store"), each.pop("workers"), size=size, **each)
    print(f"\n{MODEL}\n")
    print(pages(service, {n: one.rate for n, one in measured.items()}))


def inspecting(proof: Proof, plan: Path, scans: list[str]) -> list[tuple[object, ...]]:
    """Commands that inspect all scans, in three parts."""
    parts = (scans[:READY], scans[READY : READY + FEW], scans[READY + FEW :])
    return [("inspect", plan, *some, "--csv", proof.folder / "found.csv") for some in parts]


def recorded(proof: Proof, plan: Path, scan: Path, parts: int) -> Path:
    """Lots in the records whose scans lie in the store; and a plan that has to look at these again."""
    other = proof.folder / "other.hplan"
    script = (
        "import json, sys, hemtra\n"
        "from hemtra.storage.records import Records\n"
        "from hemtra.storage.records.store import Lot, PartRecord\n"
        "db, plan, other, scan, lots = json.loads(sys.argv[1])\n"
        "plan, scan, records = hemtra.load_plan(plan), hemtra.load_scan(scan), Records(db)\n"
        "form = next(step for step in plan.steps if step.kind == 'flatness')\n"
        "hemtra.save_plan(plan.with_step(form.edited(params={**form.params, 'cell': 2.1})), other, scan)\n"
        "result, revision, number = hemtra.inspect(plan, scan), records.revision(plan), 0\n"
        "for name, count in lots:\n"
        "    lot, made = records.add_lot(Lot(0, name, plan.name, 1e9, 1e9 + 1e6)), []\n"
        "    for k in range(count):\n"
        "        when, scan = (1e9 + k,) * 3, f'/kept/part-{number:04}.x3p'\n"
        "        rows = result.characteristics\n"
        "        made.append(PartRecord(k + 1, result.verdict, '', '', rows, *when, 1.0, scan=scan))\n"
        "        number += 1\n"
        "    records.add_all(lot, made, revision)\n"
        "records.close()\n"
    )
    counts = dict(zip(LOTS, (READY, FEW, parts - READY - FEW), strict=True))
    given = json.dumps([proof.db, str(plan), str(other), str(scan), list(counts.items())])
    proof.on_line(proof.python, "-c", script, given)
    return other


HEAD = """# A cluster, measured and extrapolated

Scheduler, two workers, an object store, a PostgreSQL server, and the computer that gives the commands, each a
network namespace of one computer with two cores. {parts} scans of {size:.1f} MB, {total:.1f} GB, of the demo's
cover; workers start with empty caches. The first two rows inspect scans; the last one re-evaluates recorded
lots by another plan, with checkpoints in the database. What a command takes to begin does not count. Made by
`tools/cluster_proof.py {parts}`, as root.

| scans | 1 worker, parts/s | 2 workers | ratio | store, ms a part | worker | scheduler | command | database |
|---|---:|---:|---:|---:|---:|---:|---:|---:|"""
MODEL = """## Larger clusters

A simulation with the times above (`tools/cluster_model.py`). Where all hosts share two cores it must give what
was measured; where every worker has a core of its own and the store a line of 10 Gbit/s, it gives what nobody
here could measure."""


def uploaded(proof: Proof, scans: list[Path], parts: int) -> list[str]:
    """The addresses of as many objects in the store."""
    script = (
        "import json, sys, s3fs\n"
        "store = s3fs.S3FileSystem()\n"
        "scans, parts, bucket = json.loads(sys.argv[1])\n"
        "store.mkdir(bucket)\n"
        "for k in range(parts):\n"
        "    store.put(scans[k % len(scans)], f'{bucket}/part-{k:04}.x3p')\n"
    )
    proof.wait_for("store", 9000)
    proof.on_line(proof.python, "-c", script, json.dumps([[str(s) for s in scans], parts, BUCKET]))
    return [f"s3://{BUCKET}/part-{k:04}.x3p" for k in range(parts)]


def main() -> None:
    """Everything, and nothing left behind."""
    parts = int(sys.argv[1]) if len(sys.argv) > 1 else PARTS
    with hosts(), tempfile.TemporaryDirectory(prefix="hemtra-proof-") as folder:
        measured(Proof(Path(folder)), parts)


if __name__ == "__main__":
    main()
