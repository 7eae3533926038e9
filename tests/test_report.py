"""The report as people use it: in a real browser, by links, by keys, on a phone, in print."""

from __future__ import annotations

import fcntl
import json
import os
import re
import shutil
import xml.etree.ElementTree as ET
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pytest
from conftest import Drovik, Result, demo_on_port, good
from PIL import Image

from drovik.evaluation.gathering import gather
from drovik.images.layout import Map
from drovik.project.reading import read_project
from drovik.reporting.page.case_rows import Gallery
from drovik.reporting.page.pictures import PagePictures
from drovik.scoring.measures.outlines import shapes_of
from drovik.scoring.measures.regions import Region
from drovik.store.answer_store import Store

if TYPE_CHECKING:
    from playwright.sync_api import Browser, Locator, Page

CHROMIUM = shutil.which("chromium")
AXE = Path(__file__).parent.parent / "node_modules/axe-core/axe.min.js"
pytestmark = pytest.mark.skipif(CHROMIUM is None, reason="needs Debian's chromium")
Open = Callable[..., "Page"]


@pytest.fixture
def open_page(browser: Browser) -> Iterator[Open]:
    """Opens a page of a file; whatever it asks for beyond its folder, or reports as an error, fails the test."""
    contexts, wrong = [], []

    def opened(path: Path, at: str = "#/", **options: Any) -> Page:
        context = browser.new_context(viewport=options.pop("viewport", {"width": 1280, "height": 800}), **options)
        contexts.append(context)
        page = context.new_page()
        page.on("request", lambda one: None if one.url.startswith(("file:", "data:")) else wrong.append(one.url))
        page.on("pageerror", lambda error: wrong.append(str(error)))
        page.on("console", lambda said: wrong.append(said.text) if said.type == "error" else None)
        page.goto(path.as_uri() + at)
        return page

    yield opened
    for one in contexts:
        one.close()
    assert wrong == [], "the page asks nobody, and nothing in it fails"


@pytest.fixture(scope="session")
def report(finished_demo: tuple[Drovik, Result], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's report with its held-out cases, made once for all workers."""
    drovik, _ = finished_demo
    base = tmp_path_factory.getbasetemp()
    shared = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "shown-report"
    shared.mkdir(exist_ok=True)
    with (shared / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (shared / "project/report.html").is_file():
            shutil.copytree(drovik.folder, shared / "making", dirs_exist_ok=True)
            made = Drovik(shared / "making", Path(drovik.environment["HOME"]))
            assert made("report", "--held-out", "--force").code == 0
            (shared / "making").rename(shared / "project")
    return shared / "project/report.html"


def in_view(page: Page, selector: str) -> bool:
    box = page.locator(selector).first.bounding_box()
    return box is not None and box["y"] >= 0 and box["y"] + box["height"] <= page.viewport_size["height"]  # type: ignore[index]


def data_of(report: Path) -> dict[str, Any]:
    found = re.search(r'(?s)<script type="application/json" id="data">(.*?)</script>', report.read_text())
    assert found
    return dict(json.loads(found[1]))


def shown_part(page: Page) -> Locator:
    return page.locator("main > section:visible")


def count_of(page: Page) -> int:
    # An address that changed is read in the browser's next turn.
    page.evaluate("() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")
    return int(page.locator("#count").inner_text().split()[0])


def test_the_first_screen_says_what_is_best_what_it_costs_and_what_to_do_next(report: Path, open_page: Open) -> None:
    page = open_page(report, "")
    rows = page.locator("table.lines tbody tr")
    assert rows.count() == len(data_of(report)["tasks"])
    assert in_view(page, ".next")
    assert in_view(page, "table.lines")
    sort = page.locator("table.lines tr", has=page.get_by_role("link", name="sort", exact=True)).inner_text()
    for words in ("gull/v3", "may be as good: fulmar/v2", "93.8 %", "83.2 – 97.9", "EUR", "plural of the label"):
        assert words in sort
    figures = page.locator("#overview figcaption").all_inner_texts()
    for words in ("sort: accuracy against money", "sort: what each choice adds", "sort: tuned cases"):
        assert any(one.startswith(words) for one in figures)


@pytest.mark.long
def test_a_cause_leads_to_its_cases_and_the_address_brings_them_back(report: Path, open_page: Open) -> None:
    page = open_page(report, "#/task/sort")
    shown_part(page).get_by_text("every cause, with the score if it were fixed").click()
    row = shown_part(page).locator("table.causes tbody tr", has_text="gull/v2 kind").first
    cases = int(row.locator("td").nth(1).inner_text())
    row.locator("a.cause").click()
    assert count_of(page) == cases > 0
    assert page.locator("article .answer[data-arm='gull/v2'] .cause").count() >= 1
    address = page.url
    again = open_page(report, address[address.index("#") :])
    assert count_of(again) == cases
    assert again.locator("[name=cause]").input_value() == page.locator("[name=cause]").input_value() != ""
    page.go_back()
    assert page.locator("#cases").is_hidden()
    assert page.get_by_role("heading", name="Which kind of item is it?").is_visible()


@pytest.mark.long
def test_every_number_of_the_confusion_matrix_is_the_number_of_cases_behind_it(report: Path, open_page: Open) -> None:
    page = open_page(report, "#/task/sort")
    cells = shown_part(page).locator("table.heat").first.locator("td a")
    assert cells.count() > 8
    links = [(one.get_attribute("href"), int(one.inner_text())) for one in cells.all()]
    assert sum(number for _, number in links) == 48
    for link, number in links[:12]:
        page.evaluate("at => { location.hash = at }", link)
        page.wait_for_function("at => location.hash === at", arg=link)
        assert count_of(page) == number


@pytest.mark.long
def test_what_a_prompt_version_fixed_and_broke_is_one_click_away(
    report: Path, open_page: Open, finished_demo: tuple[Drovik, Result]
) -> None:
    told = json.loads(finished_demo[0]("compare", "gull/v1", "gull/v2", "--task", "sort", "--json").out)
    verdict = told["tasks"]["sort"]["verdicts"][0]
    page = open_page(report, "#/task/sort")
    shown_part(page).get_by_text("from v1 to v2").click()
    for word in ("fixed", "broken"):
        page.evaluate("location.hash = '#/task/sort'")
        link = shown_part(page).locator("details tr", has_text="gull/v2").locator(f"a[href*='change={word}']").first
        assert int(link.inner_text()) == len(verdict[word])
        link.click()
        assert count_of(page) == len(verdict[word])
        shown = page.locator("#list .row .name").all_inner_texts()
        assert {one.split(" ·")[0] for one in shown} <= set(verdict[word])


@pytest.mark.long
def test_cases_are_gone_through_by_keys_alone(report: Path, open_page: Open) -> None:
    page = open_page(report, "#/cases?task=sort&order=loss")
    first = page.locator("article h3").inner_text()
    page.keyboard.press("j")
    second = page.locator("article h3").inner_text()
    assert second != first
    assert f"case={second}" in page.url
    page.keyboard.press("ArrowUp")
    assert page.locator("article h3").inner_text() == first
    arms = page.locator("article .answer").count()
    page.keyboard.press("2")
    assert page.locator("article .answer").count() == arms - 1
    assert "hide=fulmar" in page.url
    page.keyboard.press("2")
    assert page.locator("article .answer").count() == arms
    page.keyboard.press("/")
    page.keyboard.type("lp-03")
    assert count_of(page) == len([row for row in data_of(report)["tasks"][-1]["rows"] if "lp-03" in json.dumps(row)])
    page.keyboard.press("Escape")
    page.keyboard.press("?")
    assert page.get_by_role("dialog").get_by_text("next case").is_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("o")
    page.locator("table.lines").wait_for()
    page.keyboard.press("d")
    assert page.evaluate("document.documentElement.dataset.theme") == "dark"


def boxes_on_screen(page: Page) -> list[list[float]]:
    """The boxes that are drawn, as shares of the picture that is drawn."""
    return page.evaluate(  # type: ignore[no-any-return]
        """() => {
          const image = document.querySelector(".stage img").getBoundingClientRect();
          return [...document.querySelectorAll(".stage rect.shape")].map((one) => {
            const box = one.getBoundingClientRect();
            return [(box.left - image.left) / image.width, (box.top - image.top) / image.height,
                    (box.right - image.left) / image.width, (box.bottom - image.top) / image.height];
          });
        }"""
    )


def test_boxes_lie_where_they_are_in_the_picture_at_any_zoom(report: Path, open_page: Open) -> None:
    page = open_page(report, "#/cases?task=find&case=lp-001")
    wanted = [
        [n / side for n, side in zip(box, (640, 480) * 2, strict=True)]
        for box in ([165, 88, 276, 387], [418, 84, 628, 384])
    ]
    for zoom in ("0", "+", "+", "-"):
        page.keyboard.press(zoom)
        drawn = boxes_on_screen(page)
        assert len(drawn) >= 4, "what is expected, and what arms answered"
        for found, box in zip(drawn[:2], wanted, strict=True):
            assert found == pytest.approx(box, abs=0.012)  # lines are as wide as that
    before = page.locator(".stage img").bounding_box()
    page.mouse.move(600, 400)
    page.mouse.wheel(0, -200)
    after = page.locator(".stage img").bounding_box()
    assert before
    assert after
    assert after["width"] > before["width"]
    page.get_by_label("expected").uncheck()
    assert len(boxes_on_screen(page)) == len(drawn) - 2


def test_filters_narrow_the_cases_and_are_in_the_address(report: Path, open_page: Open) -> None:
    page = open_page(report, "#/cases?task=sort")
    task = next(one for one in data_of(report)["tasks"] if one["name"] == "sort")
    gull, v2 = task["arms"].index("gull/v1"), task["arms"].index("gull/v2")

    def right(row: dict[str, Any], arm: int) -> bool:
        return bool(row["answers"][arm]["loss"] <= 0)

    page.locator("[name=arm]").select_option("gull/v1")
    page.locator("[name=outcome]").select_option("wrong")
    assert count_of(page) == sum(not right(row, gull) for row in task["rows"])
    page.locator("[name=label]").select_option("cap")
    assert count_of(page) == sum(not right(row, gull) for row in task["rows"] if row["label"] == "cap")
    assert "arm=gull%2Fv1&outcome=wrong&label=cap" in page.url.replace("&status=&cause=", "&")
    page.get_by_role("button", name="clear").click()
    assert count_of(page) == len(task["rows"])
    page.locator("[name=column]").select_option("given.vessel")
    vessel = task["rows"][0]["given"]["vessel"]
    page.locator("[name=value]").select_option(vessel)
    assert count_of(page) == sum(row["given"]["vessel"] == vessel for row in task["rows"])
    page.locator("[name=task]").select_option("read-tag")
    assert count_of(page) == 48
    for order, key in {
        "loss": lambda row: sum(one["loss"] for one in row["answers"]),
        "disagreement": lambda row: row.get("apart", 0),
        "money": lambda row: sum(one["cost"] for one in row["answers"]),
    }.items():
        page = open_page(report, f"#/cases?task=sort&order={order}")
        first = page.locator("#list .row .name").first.inner_text().split(" ·")[0]
        assert first == max(task["rows"], key=key)["id"], order
    page = open_page(report, "#/cases?task=sort&from=gull%2Fv1&to=gull%2Fv2")
    assert count_of(page) == sum(right(row, gull) != right(row, v2) for row in task["rows"])
    assert page.locator("#list [aria-selected=true]").count() == 1


@pytest.mark.long
def test_answers_beside_each_other_say_what_differs(report: Path, open_page: Open) -> None:
    rows = next(one for one in data_of(report)["tasks"] if one["name"] == "read-tag")["rows"]
    row = next(
        one
        for one in rows
        if any(a["found"][0][1].count("/") == 1 for a in one["answers"] if a and a["status"] == 0 and a.get("found"))
    )
    page = open_page(report, f"#/cases?task=read-tag&case={row['id']}")
    assert page.locator("article .answer dd.differs").count() >= 1
    assert page.locator("article .expected dd.differs").count() == 0
    page.get_by_text("prompt as it was sent").first.click()
    assert "[picture 1]" in page.locator("article .answer details[open] pre").first.inner_text()
    copied = open_page(report, "#/cases?task=copy-tag&order=loss")
    assert copied.locator("article .answer del").count() >= 1
    assert copied.locator("article .answer ins").count() >= 1


@pytest.mark.long
def test_a_table_is_sorted_by_the_title_of_a_column(report: Path, open_page: Open) -> None:
    page = open_page(report, "#/task/sort")
    table = shown_part(page).locator("table.arms")
    table.get_by_role("button", name="accuracy").focus()
    page.keyboard.press("Enter")
    scores = [float(one.inner_text().removesuffix(" %")) for one in table.locator("td.strong").all()]
    assert scores == sorted(scores)
    assert table.locator("th[aria-sort=ascending]").inner_text().startswith("accuracy")
    page.keyboard.press("Enter")
    scores = [float(one.inner_text().removesuffix(" %")) for one in table.locator("td.strong").all()]
    assert scores == sorted(scores, reverse=True)


HOSTILE = '</script><script>document.title="owned"</script><img src=x onerror=document.title="owned">\u202e\x1b[2J'


def test_a_hostile_answer_is_shown_as_text_however_long(
    drovik: Drovik, serve: Callable[..., Any], open_page: Open
) -> None:
    service = serve(lambda n, body: good(HOSTILE + ("x" * 1_000_000 if n == 1 else json.dumps({"kind": HOSTILE}))))
    folder = demo_on_port(drovik.folder, service.port, cases=3)
    drovik("send", "--arm", "gull", "--task", "sort")
    assert drovik("report", "--task", "sort").code == 0
    assert (folder / "report.html").stat().st_size < 2_000_000
    page = open_page(folder / "report.html", "#/cases?task=sort")
    for _ in range(3):
        said = page.locator("article").inner_text()
        assert 'document.title="owned"' in said
        assert "\\u{202e}" in said
        assert not set("\u202e\x1b") & set(page.content())
        page.keyboard.press("j")
    assert page.title() == "Lost property on the Skerry Line"
    assert page.locator("article script, article img[src=x]").count() == 0


@pytest.mark.long
def test_nothing_shifts_while_the_page_loads_or_a_case_is_stepped(report: Path, open_page: Open) -> None:
    for at in ("", "#/cases?task=sort"):
        page = open_page(report, at)
        page.evaluate(
            """() => { window.shifts = 0; new PerformanceObserver((list) => list.getEntries().forEach((one) => {
                 if (!one.hadRecentInput) window.shifts += one.value; })).observe({ type: "layout-shift", buffered: true }); }"""
        )
        page.wait_for_timeout(400)
        assert page.evaluate("window.shifts") < 0.01


@pytest.mark.long
def test_the_page_fits_a_phone_prints_and_keeps_still_where_asked(report: Path, open_page: Open) -> None:
    for at in ("#/", "#/task/sort", "#/cases?task=find"):
        phone = open_page(report, at, viewport={"width": 390, "height": 844})
        assert phone.evaluate("document.documentElement.scrollWidth") <= 390
    printed = open_page(report, "#/", reduced_motion="reduce")
    printed.emulate_media(media="print", color_scheme="dark")
    assert printed.locator("nav").is_hidden()
    assert printed.locator("table.arms").first.is_visible()
    assert printed.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(255, 255, 255)"
    assert printed.evaluate("document.getAnimations().length") == 0


@pytest.mark.skipif(not AXE.exists(), reason="needs axe-core from npm")
@pytest.mark.long
@pytest.mark.parametrize("colors", ["light", "dark"])
def test_the_page_can_be_used_with_a_screen_reader(report: Path, open_page: Open, colors: str) -> None:
    rules = {} if colors == "light" else {"runOnly": ["color-contrast"]}
    for at in ("#/", "#/task/safe", "#/cases?task=find", "#/cases?task=copy-tag&order=loss")[
        :: 1 if colors == "light" else 2
    ]:
        page = open_page(report, at, color_scheme=colors)
        page.evaluate(AXE.read_text())
        page.evaluate("document.querySelectorAll('main > section[hidden]').forEach((one) => one.remove())")
        found = page.evaluate("rules => axe.run(document, { ...rules, resultTypes: ['violations'] })", rules)
        told = [
            (one["id"], node["target"], node["failureSummary"][:200])
            for one in found["violations"]
            for node in one["nodes"][:2]
        ]
        assert told == [], at


@pytest.mark.long
def test_large_pictures_come_from_the_projects_folder_or_from_within(
    answered_demo: Drovik, open_page: Open, tmp_path: Path
) -> None:
    assert answered_demo("report", "--task", "sort").code == 0
    linked = open_page(answered_demo.folder / "report.html", "#/cases?task=sort&case=lp-001")
    linked.wait_for_function("document.querySelector('.stage img').src.startsWith('file:')")
    assert linked.evaluate("document.querySelector('.stage img').naturalWidth") == 640
    (tmp_path / "away").mkdir()
    assert answered_demo("report", "--task", "sort", "--embed", "--out", str(tmp_path / "away/whole.html")).code == 0
    whole = open_page(tmp_path / "away/whole.html", "#/cases?task=sort&case=lp-001")
    whole.wait_for_function("document.querySelector('.stage img').naturalWidth === 640")
    assert whole.locator(".stage img").get_attribute("src").startswith("data:image/webp")  # type: ignore[union-attr]


def test_what_a_recheck_found_is_on_the_tasks_page(drovik: Drovik, serve: Callable[..., Any]) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}' if n < 6 else '{"kind": "hat"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=6)
    arm = ("--task", "sort", "--arm", "gull/v1")
    assert drovik("send", *arm).code == 0
    drovik("send", *arm, "--recheck", "4")
    assert drovik("report", *arm).code == 0
    assert "gull/v1: asked again, 0 of 4 answers are the same: differs" in (folder / "report.html").read_text()


@pytest.mark.long
def test_figures_are_written_as_png_and_svg(answered_demo: Drovik) -> None:
    done = json.loads(answered_demo("report", "--task", "sort", "--figures", "figures", "--json").out)
    names = {Path(one).name for one in done["figures"]}
    assert {"sort-scores.png", "sort-scores.svg", "sort-money.svg", "sort-effects.png"} <= names
    for one in done["figures"]:
        data = (answered_demo.folder / one).read_bytes()
        assert data.startswith(b"\x89PNG") or ET.fromstring(data).tag.endswith("svg")
    told = " ".join(ET.parse(answered_demo.folder / "figures/sort-scores.svg").getroot().itertext())
    assert "gull/v3" in told


def test_a_picture_that_cannot_be_read_and_answers_that_are_not_there_leave_the_page_whole(
    drovik: Drovik, serve: Callable[..., Any], open_page: Open
) -> None:
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good('{"kind": "cap"}')).port, cases=2)
    (folder / "images/lp-001.jpg").write_bytes(b"not a picture")
    assert drovik("report").code == 0
    page = open_page(folder / "report.html", "")
    assert "Send first: drovik send" in page.locator(".next").inner_text()
    assert "nothing is sent yet" in page.locator("table.lines").inner_text()
    page = open_page(folder / "report.html", "#/cases?task=sort")
    assert page.get_by_text("images/lp-001.jpg cannot be read").is_visible()
    page.keyboard.press("j")
    assert page.locator(".stage img").is_visible()
    assert "no answer that is shown" in page.locator("article").inner_text()


def rows_of_page(drovik: Drovik, *words: str) -> dict[str, Any]:
    assert drovik("report", *words).code == 0
    return next(iter(data_of(drovik.folder / "report.html")["tasks"]))


PLACES = """\
[answer]
form = "json"
[measures.spots]
type = "{kind}"
at = "/things"
place = "/place"
{more}
"""


@pytest.mark.parametrize(
    ("kind", "more", "expected", "drawn"),
    [
        ("points", "within = 9", [10, 20], [[0, "point", [10, 20], ""]]),
        (
            "boxes",
            'form = "size"\nexpected_scale = "fraction"',
            [0.25, 0.5, 0.5, 1.0],
            [[0, "box", [160, 240, 320, 480], ""]],
        ),
        ("regions", "", [[0, 0], [100, 0], [100, 50]], [[0, "outline", [0, 0, 100, 0, 100, 50], ""]]),
    ],
)
def test_what_is_drawn_over_a_picture_is_in_its_own_pixels(
    drovik: Drovik, serve: Callable[..., Any], kind: str, more: str, expected: list[Any], drawn: list[Any]
) -> None:
    """The arm gets the right half of the picture at a quarter of its size: its points are told in that."""
    told = {"points": [8, 6], "boxes": [8, 6, 16, 12], "regions": [[8, 6], [24, 6], [24, 18]]}[kind]
    reply = json.dumps({"things": [{"place": told}]})
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good(reply)).port, cases=1)
    (folder / "tasks/find/question.toml").write_text(PLACES.format(kind=kind, more=more))
    for file in ("answer.schema.json", "prompts/v2.toml"):
        (folder / "tasks/find" / file).unlink()
    (folder / "tasks/find/prompts/v1.toml").write_text('ask = "Where?"\n')
    toml = folder / "drovik.toml"
    toml.write_text(toml.read_text().replace("[preps.full]", "[preps.half]\ncrop = [0.5, 0, 1, 1]\nfit = 120\n"))
    row = json.loads((folder / "cases.jsonl").read_text())
    row["expected"] = {"find": {"things": [{"place": expected}]}}
    (folder / "cases.jsonl").write_text(json.dumps(row) + "\n")
    assert drovik("send", "--task", "find", "--arm", "gull").code == 0
    task = rows_of_page(drovik, "--task", "find", "--arm", "gull")
    (case,) = task["rows"]
    (answer,) = [one for one in case["answers"] if one]
    assert case["shapes"] == drawn
    assert answer["sent"] == [[320, 0, 640, 480]], "the part that the model got"
    corners = {"points": [352, 24], "boxes": [352, 24, 416, 72], "regions": [352, 24, 416, 24, 416, 72]}[kind]
    assert answer["shapes"] == [[0, drawn[0][1], pytest.approx(corners, abs=0.2), ""]]


def test_a_masks_outline_goes_round_what_is_in_it() -> None:
    mask = np.zeros((40, 60), dtype=bool)
    mask[10:20, 5:15] = mask[25:35, 40:55] = True
    shapes = shapes_of(Region((), mask, Map(a=0.5, e=0.5)))
    around = sorted(
        (
            min(x for x, _ in one.corners),
            min(y for _, y in one.corners),
            max(x for x, _ in one.corners),
            max(y for _, y in one.corners),
        )
        for one in shapes
    )
    assert around == [(10, 20, 30, 40), (80, 50, 110, 70)], "in the source, which has two pixels to a cell"
    assert {one.kind for one in shapes} == {"outline"}
    huge = np.ones((2_000, 1_000), dtype=bool)
    (whole,) = shapes_of(Region((), huge, Map()))
    assert len(whole.corners) <= 400
    assert max(x for x, _ in whole.corners) == pytest.approx(1_000, abs=10)


def test_of_too_many_cases_the_page_holds_some_of_every_cause_and_those_that_cost_most(
    finished_demo: tuple[Drovik, Result],
) -> None:
    drovik, _ = finished_demo
    project = read_project(drovik.folder)[0]
    assert project
    with Store(project.store_path) as store:
        (view,) = gather(project, store, ["sort"], None, "tune")
        every = Gallery(store, view, PagePictures(project, drovik.folder), 5_000).document()
        few = Gallery(store, view, PagePictures(project, drovik.folder), 20).document()
    assert (len(every["rows"]), len(few["rows"]), few["cases"]) == (48, 20, 48)
    assert set(few["causes"]) == set(every["causes"]), "none is missing because it is rare"

    def loss(row: dict[str, Any]) -> float:
        return sum(one["loss"] for one in row["answers"]) / len(row["answers"])

    kept = {row["id"] for row in few["rows"]}
    assert min(map(loss, few["rows"])) > 0
    left = [loss(row) for row in every["rows"] if row["id"] not in kept]
    assert sum(map(loss, few["rows"])) / 20 > sum(left) / len(left)


def test_a_clip_is_shown_by_frames_with_their_times(drovik: Drovik, serve: Callable[..., Any]) -> None:
    av = pytest.importorskip("av")
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good("x")).port, cases=2)
    with av.open(str(folder / "clip.mp4"), "w") as clip:
        stream = clip.add_stream("mpeg4", rate=5)
        stream.width, stream.height, stream.pix_fmt = 640, 480, "yuv420p"
        for number in range(20):
            frame = av.VideoFrame.from_image(Image.new("RGB", (640, 480), (12 * number, 90, 90)))
            clip.mux(stream.encode(frame))
        clip.mux(stream.encode())
    row = {"id": "clip", "images": ["clip.mp4"], "given": {"vessel": "Tern"}}
    (folder / "cases.jsonl").write_text(json.dumps(row) + "\n")
    assert drovik("report", "--task", "describe").code == 0
    (picture,) = data_of(folder / "report.html")["pictures"]
    captions = [float(caption.removesuffix(" s")) for _, caption in picture["strip"]]
    assert captions == sorted(captions)
    assert (len(captions), captions[0], "link" in picture) == (8, 0.0, False)


def test_pages_of_a_document_are_a_strip_below_the_first(
    drovik: Drovik, serve: Callable[..., Any], open_page: Open
) -> None:
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good("x")).port, cases=3)
    pages = [Image.open(path).convert("RGB") for path in sorted((folder / "images").glob("lp-00*.jpg"))[:2]]
    pages[0].save(folder / "doc.pdf", save_all=True, append_images=pages[1:])
    (folder / "cases.jsonl").write_text(
        json.dumps({"id": "doc", "images": ["doc.pdf"], "given": {"vessel": "Tern"}}) + "\n"
    )
    assert drovik("report", "--task", "describe").code == 0
    page = open_page(folder / "report.html", "#/cases?task=describe")
    assert page.locator(".strip figcaption").all_inner_texts() == ["page 1", "page 2"]
    page.wait_for_function("document.querySelector('.stage img').naturalWidth > 600")
