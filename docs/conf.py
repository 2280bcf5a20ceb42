"""How the pages are built: ``nox -s docs``. Nothing is fetched, and nothing on a page is from outside."""

import sys
from importlib import metadata
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from making import make_pages

project = "Dot Ledger"
release = version = metadata.version("dot-ledger")
copyright = "The Dot Ledger developers"
extensions = ["myst_parser", "sphinx.ext.autodoc", "numpydoc"]
source_suffix = {".md": "markdown", ".rst": "restructuredtext"}
exclude_patterns = ["_build", "conventions"]
nitpicky = True
# Names in single backticks are words of the code; most are not on a page of their own.
default_role = "code"
autodoc_typehints = "none"
autodoc_member_order = "bysource"
numpydoc_show_class_members = False
numpydoc_class_members_toctree = False
myst_heading_anchors = 3
myst_enable_extensions = ["colon_fence"]
suppress_warnings = ["myst.strikethrough"]
html_theme = "alabaster"
html_theme_options = {
    "description": "Send, keep, measure, decide",
    "page_width": "1120px",
    "sidebar_width": "250px",
    "font_family": "system-ui, sans-serif",
    "head_font_family": "system-ui, sans-serif",
    "code_font_family": "ui-monospace, monospace",
    "show_powered_by": False,
}
html_sidebars = {"**": ["about.html", "searchfield.html", "navigation.html"]}
html_show_sourcelink = False
html_static_path = ["static"]
html_css_files = ["pages.css"]


def setup(app):
    """Have what is made from the program itself written before anything is read."""
    app.connect("builder-inited", lambda app: make_pages(Path(app.srcdir)))
