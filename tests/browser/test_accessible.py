"""axe finds nothing serious on any main view and in any dialog that opens from one, in either theme; what it cannot
decide of contrast is decided here."""

import json
import re
from collections.abc import Iterator
from typing import Any

from playwright.sync_api import Page, Route, TimeoutError, expect

from herald_launch.steps import ROOT
from tests.browser.views import VIEWS, places, settled
from tests.running import Running

#: evaluated, since the pages' policy lets no script in that is not theirs
AXE = (ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js").read_text()
DIALOG = "[role=dialog], [role=alertdialog]"
#: what is as text, and what is as a mark: the least contrasts of WCAG 2.2, 1.4.3 and 1.4.11
TEXT, MARK = 4.5, 3.0
#: axe gives up on marks, on what lies over pictures, and on what is partly scrolled away. What lies behind is then the
#: nearest background of the elements around, and every filled shape of the same picture that the text touches.
DECIDE = """
([selectors, text, mark]) => {
  const canvas = Object.assign(document.createElement("canvas"), { width: 1, height: 1 });
  const brush = canvas.getContext("2d", { willReadFrequently: true });
  const painted = (...colours) => {
    brush.fillStyle = "#fff";
    for (const colour of colours) { brush.fillStyle = colour; brush.fillRect(0, 0, 1, 1); }
    return [...brush.getImageData(0, 0, 1, 1).data].slice(0, 3);
  };
  const light = (rgb) => {
    const [r, g, b] = rgb.map((c) => c / 255).map((c) => (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4));
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  };
  const contrast = (a, b) => {
    const [x, y] = [light(a), light(b)].sort((p, q) => q - p);
    return (x + 0.05) / (y + 0.05);
  };
  const behind = (element) => {
    const found = [];
    for (let e = element; e; e = e.parentElement) found.unshift(getComputedStyle(e).backgroundColor);
    return found;
  };
  const touches = (a, b) => a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;
  const found = [];
  for (const selector of selectors) {
    const element = document.querySelector(selector);
    if (!element) continue;
    const picture = element.closest("svg");
    const style = getComputedStyle(element);
    const layers = behind(picture ?? element);
    const under = [layers];
    if (picture && element !== picture)
      for (const shape of picture.querySelectorAll("rect, circle, path")) {
        const fill = getComputedStyle(shape).fill;
        if (fill !== "none" && touches(shape.getBoundingClientRect(), element.getBoundingClientRect()))
          under.push([...layers, fill]);
      }
    const colour = picture && element !== picture ? style.fill : style.color;
    const size = parseFloat(style.fontSize);
    const large = size >= 24 || (size >= 18.66 && Number(style.fontWeight) >= 700);
    const least = !large && /[\\p{L}\\p{N}]{1}/u.test(element.textContent) ? text : mark;
    for (const colours of under) {
      const is = contrast(painted(...colours, colour), painted(...colours));
      if (is < least) found.push(`${element.outerHTML.slice(0, 160)}: contrast ${is.toFixed(2)}, wanted ${least}`);
    }
  }
  return found;
}
"""


#: Marks each button of a page with what it says, without numbers; one that names a thing of a list only if it asks on.
KINDS = """
() => {
  const kinds = new Set();
  for (const button of document.querySelectorAll("main button:enabled")) {
    let text = (button.ariaLabel ?? button.innerText).trim().replace(/\\d[\\d,.]*/g, "#").replace(/\\s+/g, " ");
    text = text.replace(/^(Actions for|Colour of|Change) .+/, "$1 ·");  // one of a list stands for all
    if (!text || (button.closest("[role=row], tr, li, nav") && !text.endsWith("…") && !button.ariaHasPopup)) continue;
    button.dataset.kind = text;
    kinds.add(text);
  }
  return [...kinds];
}
"""


#: so long a press waits for a button that is drawn anew before it is looked for again
PRESS_MS = 5_000
#: until what a press changed has been drawn
DRAWN = "new Promise(drawn => requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(drawn))))"


def serious(page: Page, within: str | None = None) -> list[str]:
    """What is wrong with what the page shows, in either theme; or with the part of it that a selector names."""
    found = []
    before = page.evaluate("document.documentElement.dataset.theme")
    for theme in ("light", "dark"):
        page.evaluate("theme => { document.documentElement.dataset.theme = theme }", theme)
        # a theme changes colours only: whatever else is wrong is found in one of them
        rules = {"runOnly": ["color-contrast"]} if theme == "dark" else {}
        result: Any = page.evaluate(
            """([within, options]) =>
                within && !document.querySelector(within)
                    ? null
                    : axe.run(within ? {include: [within]} : document, options)""",
            [within, {"resultTypes": ["violations", "incomplete"], **rules}],
        )
        if result is None:
            return [f"{theme}: it closed by itself"]
        found += [
            f"{theme}: {v['id']}: {v['nodes'][0]['html'][:200]} {v['nodes'][0].get('failureSummary', '')[:200]}"
            for v in result["violations"]
            if v["impact"] in ("serious", "critical")
        ]
        unsure = [n["target"][-1] for v in result["incomplete"] if v["id"] == "color-contrast" for n in v["nodes"]]
        found += [f"{theme}: {f}" for f in page.evaluate(DECIDE, [unsure, TEXT, MARK])]
    page.evaluate("theme => { document.documentElement.dataset.theme = theme }", before)
    return found


def dialogs(page: Page, pressed: set[str]) -> Iterator[str]:
    """Every dialog that a button or a menu's item of the page opens, while it is open; each kind of button is pressed
    once for all pages. What is pressed changes nothing: the page cannot write meanwhile."""
    address = page.url
    todo = [(kind, -1, "") for kind in page.evaluate(KINDS)]
    while todo:
        kind, place, item = todo.pop(0)
        if (name := f"{kind} › {item}" if item else kind) in pressed:
            continue
        if page.url != address:
            page.goto(address)
            settled(page)
            page.evaluate(AXE)
        if not _press(page, kind):
            continue  # pressing another took it away, or what it is about is over
        pressed.add(name)
        page.evaluate(DRAWN)
        # a button that asks first may lead to another page then
        expect(page.locator("main button[aria-busy=true]")).to_have_count(0)
        if item:
            page.get_by_role("menuitem").nth(place).click()
            page.evaluate(DRAWN)
        elif page.get_by_role("menu").count():
            items = page.get_by_role("menuitem").all()
            disabled = [i.get_attribute("aria-disabled") == "true" for i in items]
            todo = [(kind, n, i.inner_text()) for n, i in enumerate(items) if not disabled[n]] + todo
            page.keyboard.press("Escape")
            expect(page.get_by_role("menu")).to_have_count(0)
        yield from _opened(page, name)


def _press(page: Page, kind: str) -> bool:
    """Press the button of a kind; whether there is one. A part of the page that is drawn anew as it is pressed has no
    marks: it is marked again."""
    while True:
        page.evaluate(KINDS)
        button = page.locator(f"main button[data-kind={json.dumps(kind, ensure_ascii=False)}]:enabled").first
        if not button.count():
            return False
        try:
            button.click(timeout=PRESS_MS)
        except TimeoutError:
            continue
        return True


def _opened(page: Page, kind: str) -> Iterator[str]:
    dialog = page.locator(DIALOG)
    if dialog.count():
        expect(dialog.locator("[data-state=loading]")).to_have_count(0)
        yield kind
        page.keyboard.press("Escape")
        expect(dialog).to_have_count(0)


def test_axe_finds_nothing_serious(signed_in: Page, running: Running) -> None:
    page, known = signed_in, places(running)
    page.route(re.compile("/api/v1/"), _only_reads)
    found: list[str] = []
    pressed: set[str] = set()
    opened = 0
    for view in VIEWS:
        page.goto(running.url + view.format_map(known))
        settled(page)
        page.evaluate(AXE)
        found += [f"{view}: {f}" for f in serious(page)]
        for kind in dialogs(page, pressed):
            opened += 1
            found += [f"{view}, “{kind}”: {f}" for f in serious(page, DIALOG)]
    assert not found, "\n".join(found)
    assert opened > 30, sorted(pressed)


def _only_reads(route: Route) -> None:
    """Let through what changes nothing: GET, and calls that only compute."""
    call = route.request
    if call.method == "GET" or re.search(r"/(preview|sentence|preflight|sieve|explain|compare|upcoming)$", call.url):
        route.continue_()
    else:
        route.abort()
