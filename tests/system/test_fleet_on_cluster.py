"""The fleet's table is the same through a real Dask cluster of two workers, and Parquet is read back."""

import warnings
from pathlib import Path
from typing import Any

import pytest

from builders.fleet import a_fleet
from conftest import Fundamen
from wording import says

pytestmark = pytest.mark.system


def test_a_cluster_of_two_workers_gives_the_same_table(fundamen: Fundamen, tmp_path: Path) -> None:
    folder = a_fleet(tmp_path / "captures", 60)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of the library's own libraries
        from distributed import LocalCluster  # noqa: PLC0415

        start: Any = LocalCluster
        with start(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster:
            there = fundamen("fleet", folder, "--json", "--scheduler", cluster.scheduler_address)
    here = fundamen("fleet", folder, "--json")
    assert there.status == 1, there.err
    assert there.records == here.records
    refused = fundamen("fleet", folder, "--scheduler", "tcp://127.0.0.1:9")
    assert (refused.status, says(refused.err, "cli.the-cluster-at-cannot-be-reached")) == (3, True), refused.err


def test_parquet_has_the_same_rows_as_csv(fundamen: Fundamen, tmp_path: Path) -> None:
    from pyarrow import parquet  # noqa: PLC0415

    folder = a_fleet(tmp_path / "captures", 5, packages=4)
    assert fundamen("fleet", folder, "--write", "f.parquet", "--write", "f.csv", "--write", "f.png").status == 1
    assert (tmp_path / "f.png").read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    rows = parquet.read_table(tmp_path / "f.parquet").to_pylist()
    lines = (tmp_path / "f.csv").read_text().splitlines()
    assert [",".join(row.values()) for row in rows] == lines[1:]
