"""Annotation files of any other form, read by an import description.

An import description is a TOML file in the language of the services' reading rules. It says
where a JSON or XML file keeps its annotations, how boxes are written, and where the names of
images and labels stand if they are kept in side tables and joined by id.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from msgspec import structs

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import TableError
from dotledger.formats.annotations.annotation_collecting import (
    CollectedRows,
    Loaded,
    folder_of_images,
)
from dotledger.json_codec import from_json
from dotledger.reading.answer_documents import xml_document
from dotledger.reading.answer_paths import MISSING, Level, compile_each, compile_path, listed_names
from dotledger.reading.label_vocabularies import with_vocabularies
from dotledger.reading.reading_rules import ReadRule
from dotledger.reading.rule_reader import Reading, RuleReader
from dotledger.reading.strict_toml import TomlPart, load_strictly
from dotledger.reading.value_parsing import SetAside, number_of
from dotledger.safe_files import read_regular

__all__ = ["ImageTable", "ImportDescription", "ImportRule", "load_import", "read_by_description"]

_UNKNOWN_SIZE = 10**9
"""Stands for a width or height that is not known: nothing is clipped there."""


class ImageTable(TomlPart, frozen=True, kw_only=True):
    """A side table of images: where it stands, and each one's id, name and size."""

    each: str
    id: str = "id"
    name: str = "name"
    width: str = ""
    height: str = ""


class ImportRule(ReadRule, frozen=True, kw_only=True):
    """How annotations of one kind are read; `image` is the id or name of each one's image."""

    image: str = ""
    ignore: str = ""

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        super().__post_init__()
        if self.call or self.confidence:
            raise ValueError("annotations have neither a call nor a confidence")


class ImportDescription(TomlPart, frozen=True, kw_only=True):
    """How annotation files of one form are read.

    Attributes
    ----------
    annotations : str
        What the form is called.
    form : {"json", "xml"}
        In XML, attributes are named ``_name``; the text of an element that has more is ``_text``.
    one_image_each : bool
        Each file is about one image: the one at `image`, or else the one named like the file.
    image, width, height : str
        Where a file that is about one image names it and its size.
    images : ImageTable or None
        The side table of images, for files that speak of many.
    read : tuple of ImportRule
        At least one.
    """

    annotations: str
    form: Literal["json", "xml"] = "json"
    one_image_each: bool = False
    image: str = ""
    width: str = ""
    height: str = ""
    images: ImageTable | None = None
    read: tuple[ImportRule, ...]

    def __post_init__(self) -> None:
        """Raise ValueError if keys contradict each other."""
        if not self.read:
            raise ValueError("at least one [[read]] section is needed")
        if self.one_image_each and (self.images or any(rule.image for rule in self.read)):
            raise ValueError("one_image_each goes without images and without image in [[read]]")
        if not self.one_image_each and not all(rule.image for rule in self.read):
            raise ValueError("each [[read]] needs image, unless one_image_each = true")


def load_import(path: str | os.PathLike[str]) -> ImportDescription:
    """Read and check an import description.

    Raises
    ------
    DescriptionError
        Naming file, line and key.
    """
    read = load_strictly(path, ImportDescription)
    rules = with_vocabularies(read.read, Path(path).parent, os.fspath(path))
    return structs.replace(read, read=rules)


def read_by_description(
    path: str | os.PathLike[str],
    description: ImportDescription | str | os.PathLike[str],
    *,
    images: Mapping[str, Mapping[str, Any]] | None = None,
    image_folder: str | os.PathLike[str] | None = None,
) -> Loaded:
    """Read a JSON or XML annotation file, or a folder of them.

    Parameters
    ----------
    path : path-like
        A file, or a folder whose ``.json`` or ``.xml`` files are read in natural order.
    images : mapping of str to mapping, optional
        Known facts about images, such as width and height.
    image_folder : path-like, optional
        Where the images are: sizes that the files do not give are taken from them, and images
        missing there are reported.

    Raises
    ------
    TableError
        If a file cannot be read, is broken off, or nothing in it is where the description says.
    DescriptionError
        If the description is not written as it should be.
    """
    how = description if isinstance(description, ImportDescription) else load_import(description)
    folder = Path(image_folder) if image_folder is not None else None
    on_disk = folder_of_images(folder)
    work = _Import(how, _Facts(images or {}, folder, on_disk or ()))
    for file in _files(Path(path), how.form):
        work.read(file)
    return work.gathered.loaded(str(path), on_disk)


def _files(path: Path, form: str) -> list[Path]:
    if not path.is_dir():
        return [path]
    from dotledger.core.spelling import naturally_sorted

    names = [str(p.relative_to(path)) for p in path.rglob(f"*.{form}")]
    order = naturally_sorted(names)
    if not names:
        raise TableError(f"there is no .{form} file in the folder", place=str(path))
    return [path / names[place] for place in order]


@dataclass(frozen=True)
class _Facts:
    """What is known about images next to the files."""

    given: Mapping[str, Mapping[str, Any]]
    folder: Path | None
    on_disk: Iterable[str]

    def of(self, image: str) -> dict[str, Any]:
        """Return what is known; a size that is not known is read from the image."""
        known = dict(self.given.get(image, {}))
        if self.folder is not None and not {"width", "height"} <= known.keys():
            known |= size_on_disk(self.folder, image)
        return known

    def named_like(self, stem: str) -> str:
        """Return the one image that is called `stem` apart from its ending, or `stem`."""
        names = [name for name in (*self.given, *self.on_disk) if name.rpartition(".")[0] == stem]
        return names[0] if len(set(names)) == 1 else stem


def size_on_disk(folder: Path, name: str) -> dict[str, int]:
    """Return width and height of an image in a folder, upright.

    Nothing if it cannot be read, or if its name leads out of the folder.
    """
    from dotledger.errors import ImageError
    from dotledger.images.image_facts import read_facts

    try:
        file, root = (folder / name).resolve(), folder.resolve()
        if not file.is_relative_to(root):
            return {}
        facts = read_facts(read_regular(file))
    except (OSError, ValueError, ImageError):  # a name may hold anything, NUL too
        return {}
    return {"width": facts.width, "height": facts.height}


class _Import:
    """Reads files one after another into one table."""

    def __init__(self, description: ImportDescription, facts: _Facts) -> None:
        self.gathered = CollectedRows()
        self._one = ""
        self._how = description
        self._facts = facts
        self._rules = [
            (rule, RuleReader(rule), _path(rule.image), _path(rule.ignore))
            for rule in description.read
        ]
        self._lists = _list_names(description)

    def read(self, file: Path) -> None:
        top = Level(self._parsed(file), "", 0, None)
        if self._how.one_image_each:
            names = None
            self._cover_one(top, file)
        else:
            names = self._image_names(top, file)
        met = sum([self._read_rule(top, file, names, *rule) for rule in self._rules])
        if not met and not self._how.one_image_each and not names:
            sections = ", ".join(rule.each for rule in self._how.read)
            raise TableError(
                f"nothing stands where the import description says ({sections})", place=str(file)
            )

    def _parsed(self, file: Path) -> Any:
        try:
            data = read_regular(file)
        except OSError as error:
            raise TableError(
                f"the file cannot be read ({error.strerror})", place=str(file)
            ) from error
        try:
            return from_json(data) if self._how.form == "json" else xml_document(data, self._lists)
        except Exception as error:  # parsers fail in many ways: depth, encodings, entities
            raise TableError(
                f"the file breaks off or is not {self._how.form.upper()} ({error})",
                place=str(file),
            ) from error

    def _cover_one(self, top: Level, file: Path) -> None:
        get = _path(self._how.image)
        named = get(top) if get else MISSING
        self._one = str(named) if named is not MISSING else self._facts.named_like(file.stem)
        self._cover(self._one, top, self._how.width, self._how.height)

    def _cover(self, image: str, level: Level, width: str, height: str) -> None:
        sizes = {
            side: _size(_path(path), level) for side, path in (("width", width), ("height", height))
        }
        known = self._facts.of(image) if None in sizes.values() else {}
        self.gathered.cover(image, **{**known, **{k: v for k, v in sizes.items() if v}})

    def _image_names(self, top: Level, file: Path) -> dict[str, str] | None:
        """Cover the side table's images; return their names by id."""
        table = self._how.images
        if table is None:
            return None
        get_id, get_name = compile_path(table.id), compile_path(table.name)
        names: dict[str, str] = {}
        for level in compile_each(table.each)(top, []):
            key, name = get_id(level), get_name(level)
            if key is MISSING or not isinstance(name, str) or not name:
                raise TableError(
                    "an image of the side table has no id or no name",
                    place=f"{file}, {table.each}",
                    got=level.value,
                )
            names[str(key)] = name
            self._cover(name, level, table.width, table.height)
        return names

    def _read_rule(
        self,
        top: Level,
        file: Path,
        names: dict[str, str] | None,
        rule: ImportRule,
        reader: RuleReader,
        get_image: Any,
        get_ignore: Any,
    ) -> int:
        """Read what one rule describes; return how many places it met."""
        side_table, met = reader.names(top), 0
        try:
            for level in reader.each(top, []):
                met += 1
                image = self._image(level, get_image, names)
                if image is not None:
                    self._read_level(level, image, rule, reader, side_table, get_ignore)
        except TypeError as error:
            raise TableError(f"{rule.each}: {error}", place=str(file)) from error
        return met

    def _image(self, level: Level, get_image: Any, names: dict[str, str] | None) -> str | None:
        if get_image is None:
            return self._one
        key = get_image(level)
        if names is None and isinstance(key, str) and key:
            if key not in self.gathered.images:
                self.gathered.cover(key, **self._facts.of(key))
            return key
        if names is None or str(key) not in names:
            self.gathered.refuse(str(key), "image's id is not in the side table", level.value)
            return None
        return names[str(key)]

    def _read_level(
        self,
        level: Level,
        image: str,
        rule: ImportRule,
        reader: RuleReader,
        side_table: dict[str, Any],
        get_ignore: Any,
    ) -> None:
        facts = self.gathered.images[image]
        width, height = (facts.get(side, _UNKNOWN_SIZE) for side in ("width", "height"))
        if rule.box and rule.box.unit != "pixels" and _UNKNOWN_SIZE in (width, height):
            reason = f"box in {rule.box.unit}, image's size not known"
            self.gathered.refuse(image, reason, image, rule.kind)
            return
        reading = Reading()
        frame = Frame(width, height, width, height)
        reader.read_level(level, side_table, frame, None, reading)
        for reason, value in reading.notes:
            if "clipped" in reason:
                self.gathered.clipped += 1
            else:
                self.gathered.refuse(image, reason, value, rule.kind)
        for found in reading.found:
            self.gathered.add(
                image,
                found.kind,
                found.label,
                found.box,
                ignore=_truth(get_ignore, level),
                details=found.details if found.details and found.details.to_dict() else None,
            )


def _path(path: str) -> Any:
    return compile_path(path) if path else None


def _size(get: Any, level: Level) -> int | None:
    if get is None:
        return None
    try:
        size = number_of(get(level))
    except SetAside:
        return None
    return int(size) if size > 0 else None


def _truth(get: Any, level: Level) -> bool:
    """Return whether a value says yes: true, a number that is not 0, or a word such as "1"."""
    value = get(level) if get is not None else None
    if isinstance(value, str):
        return value.strip().casefold() not in ("", "0", "false", "no", "n", "f")
    return bool(value)


def _list_names(description: ImportDescription) -> tuple[str, ...]:
    """Return the names that the description goes through as lists."""
    paths = [rule.each for rule in description.read]
    paths += [rule.lookup.table for rule in description.read if rule.lookup and rule.lookup.table]
    paths += [description.images.each] if description.images else []
    return listed_names(paths)
