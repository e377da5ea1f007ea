"""Coordinates of many tracks at once: tables as people have them, and what the page says of one while it is typed."""

import pytest
from desk import poster, taken_in
from plates import rendered
from scripts import run_module

from amberkeel.core.errors import SolveError
from amberkeel.core.solve.evidence.survey_table import MOST_TEXT, SurveyRow, matched, survey_rows

PLAIN = [SurveyRow("P1", (1.0, 2.5, -3.0)), SurveyRow("P 2", (0.0, 0.25, 1e-3), 0.01)]


@pytest.mark.parametrize(
    "text",
    [
        "P1\t1\t2.5\t-3\nP 2\t0\t0.25\t1e-3\t0.01m",
        "P1;1;2,5;-3\nP 2;0;,25;1e-3;0.01 m\n",
        "name, x, y, z, sigma\nP1, 1, 2.5, -3,\nP 2, 0, .25, 0.001, 1cm\n",
        "\ufeff# the yard\nZ;name;X;Y;sigma\n-3;P1;1;2.5;\n0,001;P 2;0;0.25;0.01 m",
        'P1,1.0,2.50,-3.0,\r\n\r\n"P 2",0,0.25,0.001,0.01m\r\n',
    ],
)
def test_tables_are_read_however_they_are_parted(text):
    rows = survey_rows(text)
    assert [row.name for row in rows] == ["P1", "P 2"]
    for row, wanted in zip(rows, PLAIN):
        assert row.xyz == pytest.approx(wanted.xyz) and row.sigma == pytest.approx(wanted.sigma)


def test_lengths_are_in_the_unit_that_is_said_and_names_may_be_missing():
    assert survey_rows("1000 250 -40", "mm") == [SurveyRow("", (1.0, 0.25, -0.04))]
    assert survey_rows("a 1 2 3 2", "ft")[0].xyz == pytest.approx((0.3048, 0.6096, 0.9144))
    assert [row.xyz for row in survey_rows("1,5 2,5 3\n4 5 6,25")] == [(1.5, 2.5, 3.0), (4.0, 5.0, 6.25)]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "There is no table"),
        ("# only this", "There is no table"),
        ("name x y z", "no points"),
        ("P1 1 2", "“P1” is no number"),
        ("P1 1 2 deep", "Line 1 of the table"),
        ("P1 1 2 3\nP2 4 5", "Line 2 of the table"),
        ("a b c d e f", "6 columns"),
        ("P1 1 2 nan", "no number"),
        ("P1 1 2 inf", "no number"),
        ("P1 1 2 3e30", "must lie between"),
        ("P1 1 2 3 -1", "sigma"),
        ("P1 1 2 3\np1 1 2 3", "twice"),
        ("P1 1 2 3\n1 2 3", "Name all of them, or none"),
        ("\n".join(f"P{k} 1 2 3" for k in range(201)), "201 points"),
        ("x" * (MOST_TEXT + 1), "too long"),
        ("P1 " + "9" * 5000 + " 2 3", "no number"),
    ],
)
def test_what_is_no_table_is_refused_by_its_line(text, said):
    with pytest.raises(SolveError, match=said):
        survey_rows(text)


def test_an_unknown_unit_is_refused():
    with pytest.raises(SolveError, match="no unit of length"):
        survey_rows("P1 1 2 3", "ell")


def test_names_meet_tracks_whatever_their_capitals_where_that_is_clear():
    rows = survey_rows("p1 0 0 0\nDoor 0 0 0\nP9 0 0 0\nq 0 0 0")
    assert matched(rows, ["P1", "door", "Door", "Q", "Q2"]) == ([0, 2, None, 3], ["P9"])
    assert matched(rows[1:2], ["DOOR", "door"]) == ([None], ["Door"])


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", ""),
        ("# nothing yet", ""),
        ("P1 1 2 3", "1 point, all of them tracks."),
        ("p1\t1\t2\t3\nP2\t1\t2\t3", "2 points, all of them tracks."),
        ("name;x;y;z\nP1;1;2;3\nP7;1;2;3", "1 of 2 points are tracks; not P7."),
        ("x,y,z,name\n1,2,3,P2", "1 point, all of them tracks."),
        ("a 1 2 3\nb 1 2 3\nc 1 2 3\nd 1 2 3", "0 of 4 points are tracks; not a, b, c …."),
        ("1 2 3\n4 5 6", "2 points without names: select as many tracks, first made first."),
        ("x y z\n1 2 3", "1 point without names: select as many tracks, first made first."),
    ],
)
def test_the_page_says_what_a_table_names_while_it_is_typed(text, said):
    assert run_module("solve/survey", 'return m.surveySentence(a, ["P1", "P2"])', text) == said


@pytest.fixture(scope="module")
def shot(service, database, once):
    """A shot with tracks, by its key."""
    return taken_in(database, rendered(once, "slipway"), "SVY_010 Survey")


def rows_of(client, shot):
    return client.get(f"/shots/{shot}/state.json").json["constraints"]


def test_a_table_anchors_its_tracks_in_one_step(client, shot):
    post = poster(client, shot)
    names = client.get(f"/shots/{shot}/tracks.json").json["names"][:3]
    table = "\n".join(f"{name} {k} 0.5 -2" for k, name in enumerate(names)) + "\nnowhere 1 1 1"
    answer = post("constraints/survey", {"table": table, "sigma": "2 cm"})
    assert answer["said"] == "3 tracks are anchored. No track is called nowhere."
    rows = rows_of(client, shot)
    assert [(row["kind"], row["sigma"], row["xyz"]) for row in rows] == [
        ("anchor", 0.02, [float(k), 0.5, -2.0]) for k in range(3)
    ]
    again = post("constraints/survey", {"table": f"{names[1]} 100 0 0 1", "unit": "cm"})
    assert again["said"] == "1 track is anchored." and len(rows_of(client, shot)) == 3
    assert rows_of(client, shot)[-1]["xyz"] == [1.0, 0.0, 0.0]
    post("undo", {})
    assert rows_of(client, shot) == rows


def test_points_without_names_go_to_the_selected_tracks(client, shot):
    post = poster(client, shot)
    ids = client.get(f"/shots/{shot}/tracks.json").json["ids"][4:6]
    post("constraints/survey", {"table": "1 2 3\n4 5 6", "tracks": ids[::-1]})
    assert {row["track"]: row["xyz"] for row in rows_of(client, shot)[-2:]} == {
        ids[0]: [1.0, 2.0, 3.0],
        ids[1]: [4.0, 5.0, 6.0],
    }


@pytest.mark.parametrize(
    ("sent", "said"),
    [
        ({"table": "1 2 3\n4 5 6"}, "2 points without names, and 0 tracks are selected"),
        ({"table": "nowhere 1 2 3"}, "No track is called nowhere"),
        ({"table": "P1 1 2"}, "Line 1 of the table"),
        ({"table": "P1 1 2 3", "unit": "ell"}, "no unit"),
        ({"of_set": True}, "tied to no set"),
        ({"table": "P1 1 2 3", "sigma": "wide"}, "sigma"),
        ({}, "There is no table"),
    ],
)
def test_what_cannot_be_anchored_is_refused_and_changes_nothing(client, shot, sent, said):
    before = rows_of(client, shot)
    answer = client.post(f"/shots/{shot}/constraints/survey", json=sent)
    assert answer.status_code in (400, 409, 422) and said in answer.json["error"]
    assert rows_of(client, shot) == before
