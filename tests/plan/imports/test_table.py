"""CSV as people have it: encodings, delimiters, headers, ragged rows."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence

import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.plan.imports import table
from stonekettle.plan.problems import PlanError

STOPS = "stop;zone\nMühlentor;A\nHafenstraße;B\nSchloß;A\nJägerweg;C\n"


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "windows-1252"])
def test_the_encoding_is_recognised(encoding: str) -> None:
    found = table.read(STOPS.encode(encoding))
    assert found.encoding == encoding.removesuffix("-sig")
    assert (found.delimiter, found.header, found.columns) == (";", True, ("stop", "zone"))
    assert [row[0] for row in found.records] == ["Mühlentor", "Hafenstraße", "Schloß", "Jägerweg"]


def test_other_letters_are_recognised_and_can_be_told() -> None:
    text = "остановка,зона\n" + "Речной вокзал,А\nПлощадь Победы,Б\nБольшая Садовая улица,В\n" * 5
    assert table.read(text.encode("windows-1251")).records[0][0] == "Речной вокзал"
    czech = "zastávka,pásmo\nNáměstí Míru,A\n".encode("windows-1250")
    assert table.read(czech, encoding="windows-1250").records == [["Náměstí Míru", "A"]]
    with pytest.raises(PlanError, match="not in utf-8") as caught:
        table.read(czech, encoding="utf-8")
    assert caught.value.problems[0].mend == "Choose another encoding."


@pytest.mark.parametrize("delimiter", table.DELIMITERS)
def test_the_delimiter_is_recognised(delimiter: str) -> None:
    other = "," if delimiter != "," else ";"
    lines = ["name", "note", "zone"], ["a", f"one{other} two", "A"], ["b", f"three{other} four{other} five", "B"]
    found = table.read("\n".join(delimiter.join(line) for line in lines).encode())
    assert (found.delimiter, found.records) == (delimiter, [list(line) for line in lines[1:]])


def test_a_single_column_needs_no_delimiter() -> None:
    found = table.read(b"rider\nr-1\nr-2\n")
    assert (found.titles, found.records) == (("rider",), [["r-1"], ["r-2"]])


@pytest.mark.parametrize(
    ("text", "header"),
    [
        ("stop,zone\nQuay,A\n", True),
        ("1001,A\n1002,B\n", False),
        ("Quay,A\nMill,A\n", False),
        ("stop,stop\nQuay,Mill\n", False),
        ("2024-05-01,x\n2024-05-02,y\n", False),
        ("only one line\n", False),
    ],
)
def test_a_header_is_recognised(text: str, header: bool) -> None:
    assert table.read(text.encode()).header is header
    told = table.read(text.encode(), header=not header)
    assert len(told.records) == text.count("\n") - (not header)


def test_columns_get_names_that_can_be_used() -> None:
    found = table.read("Straße & Nr.;Straße & Nr.;2nd;Имя;\na;b;c;d;e\n".encode(), header=True)
    assert found.titles[0] == "Straße & Nr."
    assert found.columns == ("strasse_nr", "strasse_nr_2", "_2nd", "column_4", "column_5")


def test_quotes_hold_delimiters_lines_and_quotes() -> None:
    found = table.read(b'stop,note\r\nQuay,"by the ""old"" mill,\r\nthen left"\r\nMill,\r\n')
    assert found.records == [["Quay", 'by the "old" mill,\r\nthen left'], ["Mill", ""]]
    with pytest.raises(PlanError, match="Close every quote"):
        table.read(b'stop,note\nQuay,"open\n')


def test_ragged_rows_are_named_and_never_taken_unasked() -> None:
    found = table.read(b"stop,zone\nQuay,A\nMill\n\nGate,B,C\nDock,A\n")
    assert found.ragged == (3, 5)
    with pytest.raises(PlanError, match="2 rows have more or fewer than 2 values: line 3, 5"):
        found.rows()
    assert found.rows(ragged="fill up").values == [("Quay", "A"), ("Mill", ""), ("Gate", "B"), ("Dock", "A")]
    assert found.rows(ragged="leave out").values == [("Quay", "A"), ("Dock", "A")]


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"", "the file is empty"),
        (b"\n \n", "the file is empty"),
        (b"stop\0zone\nQuay\0A", "this is no text"),
        (b"stop,zone\n", "no row is left"),
    ],
)
def test_files_without_rows_are_refused(content: bytes, says: str) -> None:
    with pytest.raises(PlanError, match=says):
        table.read(content, header=None if b"\n" not in content.strip(b" ") else True).rows()


def test_columns_must_all_be_named() -> None:
    with pytest.raises(PlanError, match="1 names for 2 columns"):
        table.read(b"stop,zone\nQuay,A\n").rows(["stop"])


WORDS = st.text(st.sampled_from("abcäöé ß,;\t|\"'\n"), min_size=1, max_size=8).filter(str.strip)


@given(st.lists(st.tuples(WORDS, WORDS), min_size=1, max_size=20), st.sampled_from(table.DELIMITERS))
def test_what_is_told_is_read_back_exactly(rows: Sequence[tuple[str, str]], delimiter: str) -> None:
    written = io.StringIO()
    csv.writer(written, delimiter=delimiter, lineterminator="\n").writerows([("one", "two"), *rows])
    found = table.read(written.getvalue().encode(), encoding="utf-8", delimiter=delimiter, header=True)
    assert found.rows().values == list(rows)
