"""The ties stage as a person uses it: a set made of one pass, another tied to it, a wrong tie found, refusals."""

import io
import json
import re

import pytest
from desk import desk_page, poster, taken_in
from playwright.sync_api import expect

from amberkeel.core.sim.quay import clean_pass, live_pass
from amberkeel.settings import from_environment
from amberkeel.store.edits import apply
from amberkeel.store.models import Shot
from amberkeel.store.session import session


@pytest.fixture(scope="module")
def passes(service, database, tmp_path_factory):
    """Both passes of the quay in one production: the clean one solved with its tags, the live one just followed."""
    from amberkeel.jobs.kinds import work

    made = {}
    for name, shot in (("QUAY_060 Clean", clean_pass), ("QUAY_061 Live", live_pass)):
        pictures = shot(640, 360, frames=20, samples=4)
        made[name] = taken_in(database, pictures, tmp_path_factory.mktemp("quay"), name, 260)
    clean, live = made.values()
    with session(database) as opened:
        opened.get(Shot, live).production_id = opened.get(Shot, clean).production_id
    for kind in ("tags", "solve"):
        work(kind, from_environment(), clean, {}, lambda *_: None)
    return clean, live


def known(client, number):
    """What the page knows of a shot's ties."""
    return client.get(f"/shots/{number}/ties.json").json


def test_one_pass_makes_the_set_and_the_other_is_brought_to_it(browser, service, database, client, passes):
    clean, live = passes
    with session(database) as opened:
        crate = {"kind": "box", "name": "Crate", "size": [1.0, 1.0, 1.0]}
        apply(opened, clean, "scene", {"proxies": {"p1": crate}})
    before = client.get(f"/shots/{clean}/state.json").json
    with desk_page(browser, service, clean, "ties") as page:
        page.locator('[data-act="set-make"]').click()
        expect(page.locator("#toast")).to_contain_text("Call the set")
        page.locator("#setname").fill("Quay")
        page.locator('[data-act="set-make"]').click()
        expect(page.locator("#setfacts")).to_contain_text("This shot made it")
        assert page.locator("#setpoints .tierow").count() > 20
        page.locator('[data-act="ties-ties"]').click()
        expect(page.locator('[data-act="tie-align"]')).to_be_disabled()
    with desk_page(browser, service, live, "ties") as page:
        page.locator("#setchoice").select_option(index=1)
        expect(page.locator("#setfacts")).to_contain_text("QUAY_060 Clean made it")
        page.locator('[data-act="ties-ties"]').click()
        page.locator('[data-act="tie-whole"]').click()
        expect(page.locator("#tiesays")).to_have_text("In the world of Quay.", timeout=240_000)
        expect(page.locator("#tiealigned")).to_contain_text("The shot's own fit")
        assert page.locator("#tielist .tierow").count() >= 3
        page.keyboard.press("Shift+P")
        expect(page.locator("#othername")).to_have_text("QUAY_060 Clean")
        page.locator('[data-act="tie-pictures"]').click()
        expect(page.locator("#tieproposed .proposed").first).to_be_visible(timeout=240_000)
        page.keyboard.press("p")
        expect(page.locator("#tiehand")).to_contain_text("there")
        page.get_by_role("button", name="Take all").click()
        expect(page.locator("#tieproposed .proposed")).to_have_count(0)
        page.keyboard.press("y")
        expect(page.locator("#tielist .tierow .fig").nth(7)).to_be_visible(timeout=240_000)
        page.locator('[data-act="ties-seen"]').click()
        expect(page.locator("#otherlist")).to_contain_text("the reference")
        page.locator('[data-act="ties-space"]').click()
        expect(page.locator("#spacepane")).to_be_visible()
    after = client.get(f"/shots/{clean}/state.json").json
    assert after["pinned"] == before["pinned"] and after["attempts"] == before["attempts"]
    state = client.get(f"/shots/{live}/state.json").json
    assert any(name.startswith("set-") for name in state["scene"]["proxies"])
    assert sum(one["name"].startswith("tie ") for one in state["constraints"]) >= 6
    assert state["stages"][6]["state"] == "settled"


def test_a_wrong_tie_is_found_and_what_cannot_be_is_said(browser, service, client, database, passes):
    _, live = passes
    post = poster(client, live)
    ties = known(client, live)["ties"]
    assert len(ties) >= 8
    one, other = ties[0], ties[-1]
    post("ties", {"what": "drop", "keys": [one["key"], other["key"]]})
    post("ties", {"what": "tie", "track": one["track"], "point": other["point"]})
    with desk_page(browser, service, live, "ties") as page:
        page.locator('[data-act="ties-ties"]').click()
        page.locator('[data-act="tie-align"]').click()
        row = page.locator("#tielist .tierow").filter(has_text=other["point"]).first
        expect(row).to_contain_text("wrong", timeout=240_000)
        expect(page.locator("#tiealigned")).to_contain_text(other["point"])
        page.get_by_role("button", name=f"Drop the tie of {other['point']}").click()
        expect(page.locator("#tielist").get_by_text(other["point"], exact=True)).to_have_count(0)
        page.keyboard.press("Control+z")
        expect(page.locator("#redo")).to_have_attribute("title", re.compile("Drop 1 tie"))
    for body, said in (
        ({"what": "tie", "track": one["track"], "point": "nowhere"}, "no point “nowhere”"),
        ({"what": "tie", "track": 99999999, "point": other["point"]}, "No track"),
        ({"what": "names"}, "bears the name"),
        ({"what": "take"}, "nothing proposed"),
        ({"what": "choose", "set": 99999}, "tied to no set"),
        ({"what": "drop", "keys": ["t1"]}, "None of these"),
        ({"what": "bend"}, "cannot “bend”"),
    ):
        assert said in post("ties", body, 400)["error"], body
    assert "made the set" in poster(client, passes[0])("ties", {"what": "tie", "track": 1, "point": "x"}, 400)["error"]
    post("edit", {"kind": "tracks", "payload": {"remove": [ties[1]["track"]]}})
    assert known(client, live)["lost"] == [ties[1]["point"]]
    from amberkeel.core.errors import KeelError
    from amberkeel.jobs.kinds import work

    with pytest.raises(KeelError, match="deleted track"):
        work("align", from_environment(), live, {}, lambda *_: None)


def test_sets_are_handed_on_brought_in_renewed_and_deleted(client, passes):
    clean, live = passes
    post = poster(client, clean)
    number = known(client, clean)["set"]["id"]
    text = client.get(f"/sets/{number}/set.json").text
    document = json.loads(text)
    assert document["format"] == "amberkeel-set" and document["proxies"]["p1"]["kind"] == "box"
    assert client.get(f"/sets/{number}/points.csv").text.startswith("name,x,y,z")
    survey = io.BytesIO(b"name,x,y,z\nBollard,1000,0,2500\nPost,0,0,1\nRing,3,4,5\n")
    sent = {"file": (survey, "Jetty.csv"), "unit": "mm"}
    answer = client.post(f"/shots/{live}/ties/bring", data=sent, content_type="multipart/form-data")
    assert answer.status_code == 200, answer.text
    brought = known(client, live)["set"]
    assert brought["name"] == "Jetty" and brought["points"][0]["xyz"][0] == 1.0 and brought["reference"] is None
    again = {"file": (io.BytesIO(text.encode()), "set.json")}
    asked = {"content_type": "multipart/form-data", "headers": {"Accept": "application/json"}}
    taken = client.post(f"/shots/{live}/ties/bring", data=again, **asked)
    assert taken.status_code == 400 and "a set Quay already" in taken.json["error"]
    poster(client, live)("ties", {"what": "choose", "set": number})
    assert "is free" in post("ties/set/change", {"frozen": False})["said"]
    assert "attempt" in post("ties/set/change", {"renew": True})["said"]
    assert known(client, live)["set"]["version"] == 2
    assert "not in the world" in poster(client, live)("ties/set/change", {"grow": [1]}, 400)["error"]
    assert "is called Harbour" in post("ties/set/change", {"name": "Harbour"})["said"]
    assert "stays where it is" in post("ties/set/change", {"remove": True})["said"]
    assert known(client, live)["set"]["removed"] and "was deleted" in post("ties", {"what": "names"}, 400)["error"]
