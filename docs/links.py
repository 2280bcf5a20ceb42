"""Check built pages: every link inside leads somewhere, and nothing is loaded from outside.

``python docs/links.py FOLDER`` prints what is wrong; the exit status is 1 if anything is.
"""

import sys
from pathlib import Path
from urllib.parse import unquote

from lxml import html

_LOADED = {"script": "src", "img": "src", "link": "href", "iframe": "src", "source": "src"}


def wrong_links(folder):
    """Yield page and link of each that leads nowhere, or loads something from outside."""
    pages = {path.resolve(): html.parse(str(path)).getroot() for path in folder.rglob("*.html")}
    anchors = {path: _anchors(page) for path, page in pages.items()}
    for path, page in pages.items():
        for element, _, link, _ in page.iterlinks():
            outside = "://" in link or link.startswith("//")
            if outside and _LOADED.get(element.tag):
                yield path, f"loaded from outside: {link}"
            elif not outside and not link.startswith(("mailto:", "data:", "javascript:")):
                target, _, anchor = link.partition("#")
                target = target.partition("?")[0]  # a mark of the version
                there = (path.parent / unquote(target)).resolve() if target else path
                if not there.exists():
                    yield path, f"no such page: {link}"
                elif anchor and there in anchors and unquote(anchor) not in anchors[there]:
                    yield path, f"no such place: {link}"


def _anchors(page):
    return {e.get("id") for e in page.iter() if isinstance(e.tag, str) and e.get("id")}


if __name__ == "__main__":
    found = [f"{path}: {what}" for path, what in wrong_links(Path(sys.argv[1]))]
    print("\n".join(found) or "every link leads somewhere")
    sys.exit(bool(found))
