"""Pages that are made from the program itself: commands, files, the Python face, figures of the demo."""

import contextlib
import inspect
import io
import json
import shutil
import subprocess
import sys
import tempfile
from importlib import import_module
from pathlib import Path

_GROUPS = {
    "Sending": (
        *(
            "gather",
            "forecast",
            "try_call",
            "send",
            "send_async",
            "open_service",
            "read_description",
        ),
        *("draft_description", "batches", "usage", "failures", "Ledger"),
    ),
    "Reading": ("findings_of", "reread", "check_conventions"),
    "Tables": (
        *("Findings", "Annotations", "read_findings", "read_annotations"),
        *("read_image_facts", "match_images", "pair_tables", "write_table", "write_annotations"),
    ),
    "Measuring": (
        "measure",
        "Measure",
        "measure_pairs",
        "overlap",
        "fit_confidence_map",
        "ConfidenceMap",
    ),
    "Choosing and watching": (
        *(
            "choose_thresholds",
            "choose_similarity",
            "read_thresholds",
            "write_thresholds",
            "compare",
            "combine",
            "drift",
        ),
        "check_gates",
    ),
    "Looking": ("draw", "picture", "plot", "plot_style", "write_report"),
    "Acting": (
        *("decide", "read_rules", "read_review", "annotations_from_review", "cover", "mask_text"),
        *("near_copies", "image_prints", "read_prints", "write_prints"),
        "forget",
        "post_verdicts",
        "repair_images",
    ),
}


def make_pages(docs):
    """Write everything below ``made``, anew."""
    made = docs / "made"
    shutil.rmtree(made, ignore_errors=True)
    made.mkdir()
    (made / "commands.md").write_text(_commands(), encoding="utf-8")
    (made / "files.md").write_text(_files(), encoding="utf-8")
    (made / "outputs.md").write_text(_outputs(), encoding="utf-8")
    _python(made)
    _gallery(made)


def _commands():
    """Return every command's help, as it prints it."""
    import click

    from dotledger.cli import main

    context = click.Context(main, info_name="dotledger", max_content_width=100, terminal_width=100)
    parts = ["# Commands", "```text", main.get_help(context), "```", ""]
    for name in main.list_commands(context):
        command = main.get_command(context, name)
        inner = click.Context(
            command, info_name=name, parent=context, max_content_width=100, terminal_width=100
        )
        parts += [f"## {name}", "", "```text", command.get_help(inner), "```", ""]
    return "\n".join(parts)


def _files():
    """Return what may stand in the files that people write, from their schemas."""
    from dotledger.formats.json_schemas import SCHEMAS, schema_of

    parts = [
        "# Files that you write",
        "",
        "TOML. `dotledger doctor --schema NAME` prints the JSON Schema of each, with which editors complete and check it.",
        "",
    ]
    for name in SCHEMAS:
        schema = schema_of(name)
        parts += [f"## {name}", "", schema.get("description", ""), ""]
        parts += _tables(schema)
    return "\n".join(parts)


def _outputs():
    """Return what commands print with --json, from the schemas of that."""
    from dotledger.cli.output_schemas import output_names, output_schema

    parts = [
        "# What `--json` prints",
        "",
        "Every command that prints a table prints one JSON document with `--json`. It begins with `output`, the name of what it is, and its "
        "`version`. The version is raised when a key goes, or gets another name or meaning; new keys leave it as it is, so pass over keys that "
        "you do not know. What is undefined is `null`. `dotledger doctor --schema NAME` prints the JSON Schema of each.",
        "",
        "`batch` is what `batches N` prints, `notes` what `findings --notes` prints, `choose-two` what `choose` prints for an aim with two "
        "thresholds, `agreement` what `compare` prints without annotations.",
        "",
    ]
    for name in output_names():
        schema = output_schema(name)
        parts += [f"## {name}", "", schema["description"], "", *_tables(schema, written=False)]
    return "\n".join(parts)


def _tables(schema, *, written=True):
    """Return a table for each part of a schema; of what people write, with what is needed and defaults."""
    found = []
    named = {"": schema, **schema.get("$defs", {})}
    for name, one in named.items():
        rows = one.get("properties", {})
        if not rows:
            continue
        needed = set(one.get("required", ()))
        found += [f"### {name or 'at the top'}", "", one.get("description", "") if name else "", ""]
        third = (" default |", " --- |") if written else ("", "")
        found += [f"| key | what |{third[0]}", f"| --- | --- |{third[1]}"]
        for key, about in rows.items():
            mark = ""
            if (key in needed) is written:
                mark = " (needed)" if written else " (may be missing)"
            default = f" {_default(about)} |" if written else ""
            told = f": {about['description']}" if about.get("description") else ""
            # A table of TOML is an object of JSON, with names of the reader's own.
            kind = (
                _kind(about) if written else _kind(about).replace("table of", "object by name, of")
            )
            found.append(f"| `{key}`{mark} | {kind}{told} |{default}")
        found.append("")
    return found


def _kind(about):
    """Return in words what a value may be."""
    if "$ref" in about:
        return about["$ref"].rpartition("/")[2]
    if "enum" in about:
        return ", ".join(f"`{value}`" for value in about["enum"])
    if "const" in about:
        return f"`{about['const']}`"
    for several in ("anyOf", "oneOf"):
        if several in about:
            return " or ".join(dict.fromkeys(_kind(one) for one in about[several]))
    if about.get("type") == "array":
        return f"list of {_kind(about.get('items', {}) or {})}"
    if about.get("type") == "object":
        inner = about.get("additionalProperties")
        return f"table of {_kind(inner)}" if isinstance(inner, dict) else "table"
    limits = [
        f"{word} {about[key]}"
        for key, word in (("minimum", "from"), ("maximum", "to"), ("exclusiveMinimum", "above"))
        if key in about
    ]
    return " ".join([str(about.get("type", "anything")), *limits])


def _default(about):
    default = about.get("default")
    # Of a section the defaults stand in its own table.
    return "" if default is None or isinstance(default, dict) else f"`{json.dumps(default)}`"


def _python(made):
    """Write a page for each group of names of the public face, from their docstrings."""
    import dotledger

    offered = set(dotledger.__all__)
    groups = {title: [n for n in names if n in offered] for title, names in _GROUPS.items()}
    placed = {name for names in groups.values() for name in names}
    groups["Everything else"] = sorted(offered - placed, key=str.casefold)
    pages = []
    for title, names in groups.items():
        page = title.lower().replace(" ", "-")
        pages.append(f"python-{page}")
        lines = [title, "=" * len(title), ""]
        for name in names:
            lines += _documented(f"dotledger.{name}", getattr(dotledger, name))
        (made / f"python-{page}.rst").write_text("\n".join(lines), encoding="utf-8")
    for module, title in _MODULES.items():
        page = f"python-{title.lower().replace(' ', '-')}"
        pages.append(page)
        offered = import_module(module)
        lines = [title, "=" * len(title), "", (offered.__doc__ or "").strip(), ""]
        for name in offered.__all__:
            lines += _documented(f"{module}.{name}", getattr(offered, name))
        (made / f"{page}.rst").write_text("\n".join(lines), encoding="utf-8")
    index = ["Python", "======", "", "What ``dotledger.__all__`` lists is the public face.", ""]
    index += [".. toctree::", "   :maxdepth: 2", "", *(f"   {page}" for page in pages), ""]
    (made / "python.rst").write_text("\n".join(index), encoding="utf-8")


def _documented(path, value):
    if inspect.isclass(value):
        return [f".. autoclass:: {path}", "   :members:", ""]
    if callable(value):
        return [f".. autofunction:: {path}", ""]
    return [f".. autodata:: {path}", "   :no-value:", ""]


_MODULES = {
    "dotledger.distributed.dask_engine": "In parts, with Dask",
    "dotledger.testing": "In your own tests",
}
_RESULT = 'result = dotledger.measure("walk/flint.csv", "walk/annotations.csv", threshold=0.5)\n'
_PLOTS = {
    "curve": ("Precision against recall", _RESULT + 'axes = dotledger.plot(result, "curve", kind="object", chosen=0.5)'),
    "sweep": ("Measures against the threshold", _RESULT + 'axes = dotledger.plot(result, "sweep", kind="object")'),
    "slices": ("By size of the annotated box", _RESULT + 'axes = dotledger.plot(result, "slices", kind="object", by="size")'),
    "reliability": ("Does 90 % mean 90 %", _RESULT + 'axes = dotledger.plot(result, "reliability", kind="object")'),
    "missed": ("Why it is missed", _RESULT + 'axes = dotledger.plot(result, "missed", kind="object")'),
    "confusion": ("Which label for which", _RESULT + 'axes = dotledger.plot(result, "confusion", kind="object")'),
    "differences": (
        "Two services, with intervals of the differences",
        "compared = dotledger.compare(\n"
        '    "walk/flint.csv", "walk/marl.csv", annotations="walk/annotations.csv", threshold=0.5\n'
        ')\naxes = dotledger.plot(compared, "differences")',
    ),
}  # fmt: skip


def _gallery(made):
    """Run the demo, and show what can be drawn of it."""
    import matplotlib

    matplotlib.use("agg")
    from matplotlib import pyplot

    import dotledger

    home = Path(tempfile.mkdtemp())
    command = [sys.executable, "-m", "dotledger"]
    words = ["demo", "--folder", "walk"]
    subprocess.run([*command, *words], cwd=home, check=True, capture_output=True)
    shown = ["# Gallery", "", "Made from the demo's scenes while these pages were built.", ""]
    with contextlib.chdir(home), contextlib.redirect_stdout(io.StringIO()):
        for name, (title, code) in _PLOTS.items():
            shown += [f"## {title}", "", "```python", code, "```", ""]
            names: dict[str, object] = {}
            with matplotlib.rc_context(dotledger.plot_style()):
                exec("import dotledger\n" + code, names)
                figure = names["axes"].figure
                figure.savefig(made / f"{name}.png", dpi=110)
            pyplot.close(figure)
            shown += [f"![{title}]({name}.png)", ""]
    pictures = sorted((home / "walk").rglob("contact-sheet.png"))
    for number, picture in enumerate(pictures[:1]):
        shutil.copy(picture, made / f"sheet-{number}.png")
        shown += ["## Pictures, right, wrong and missed", ""]
        shown += ["`dotledger draw photos --annotations truth.csv --out pictures`", ""]
        shown += [f"![A contact sheet](sheet-{number}.png)", ""]
    shutil.rmtree(home, ignore_errors=True)
    (made / "gallery.md").write_text("\n".join(shown), encoding="utf-8")


if __name__ == "__main__":
    make_pages(Path(__file__).parent)
