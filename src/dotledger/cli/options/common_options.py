"""Options and small habits that commands share."""

from __future__ import annotations

import shlex
import sys
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from dotledger.errors import ArgumentError
from dotledger.text_display import escaped_json, plain_text

if TYPE_CHECKING:
    from dotledger.services.service_description import Description

__all__ = [
    "as_kinds",
    "asked_findings",
    "batch_options",
    "code_option",
    "described",
    "example",
    "given_options",
    "in_options",
    "json_option",
    "kinds_option",
    "ledger_option",
    "money",
    "noticed",
    "numbers_of",
    "one_kind",
    "print_document",
    "print_json",
    "print_table",
    "replace_option",
    "same_command",
    "say",
    "say_passed_over",
    "say_problems",
    "sent_shas",
    "service_name",
    "service_options",
    "settings_of",
    "threshold_of",
    "threshold_option",
    "truth_of",
]

Function = TypeVar("Function", bound=Callable[..., Any])

DEFAULT_LEDGER = "images.ledger"

_MOST_PROBLEMS = 20


def example(text: str) -> str:
    """Return an epilog that shows how a command is used."""
    return f"\b\nExample:\n  {text}"


def ledger_option(function: Function) -> Function:
    """Add ``--ledger``."""
    return click.option(
        "--ledger",
        default=DEFAULT_LEDGER,
        show_default=True,
        envvar="DOTLEDGER_LEDGER",
        metavar="PATH",
        help="The ledger: a file, or a database address.",
    )(function)


def json_option(function: Function) -> Function:
    """Add ``--json``."""
    return click.option("--json", "as_json", is_flag=True, help="Print JSON instead of a table.")(
        function
    )


def kinds_option(function: Function) -> Function:
    """Add ``--kinds``."""
    return click.option(
        "--kinds",
        metavar="LIST",
        help="Kinds, with commas: label,object,face,unsafe,text,caption,colour,fact.",
    )(function)


def service_options(function: Function) -> Function:
    """Add ``--service``, ``--kinds`` and ``--set``."""
    setting = click.option(
        "--set", "pairs", multiple=True, metavar="NAME=VALUE", help="A named setting."
    )
    described = click.option(
        "--service",
        required=True,
        metavar="SERVICE",
        help="The service's description, or its name in the ledger.",
    )
    return described(kinds_option(setting(function)))


def batch_options(function: Function) -> Function:
    """Add ``--service`` and ``--batch``, which name what the ledger holds."""
    of_service = click.option(
        "--service",
        metavar="SERVICE",
        help="The newest batch of this service: its name, or its description's file.",
    )
    this = click.option("--batch", type=int, metavar="N", help="This batch in the ledger.")
    return of_service(this(function))


def described(
    service: str, ledger: str, *, keys: bool = False, unfinished: bool = False
) -> Description:
    """Return the description that ``--service`` names: a file, or the ledger's own.

    With `keys`, a key is about to be looked for where the description says: the user agrees to
    that once. With `unfinished`, a file may still lack its ``[[read]]`` rules.

    Raises
    ------
    ArgumentError
        If it is neither a file nor a service that the ledger knows.
    DescriptionError
        If the file is not a description.
    ConnectError
        If the user has not agreed to where its key comes from.
    """
    found, place = _unfinished(service) if unfinished else (None, None)
    if found is None:
        found, place = _found(service, ledger)
    if keys:
        from dotledger.cli.options.folder_trust import agree_to_keys

        agree_to_keys(found, name=str(place or service), place=place)
    return found


def _unfinished(service: str) -> tuple[Description | None, Path | None]:
    """Return a description without rules and its file; nothing for any other."""
    from dotledger.services.service_description import read_unfinished

    found = read_unfinished(service) if _is_file(service) else None
    return (None, None) if found is None or found.read else (found, Path(service))


def _found(service: str, ledger: str) -> tuple[Description, Path | None]:
    """Return a description and its file; None for one that a ledger holds."""
    from dotledger.cli.options.project_defaults import description_files
    from dotledger.services.service_description import read_description, stored_description

    if _is_file(service):
        return read_description(service), Path(service)
    if (beside := next(description_files(service), None)) is not None:
        _check_trusted(service, beside)
        say(f"{service} is described in {beside}")
        return read_description(beside), beside
    known: list[str] = []
    if Path(ledger).exists() or "://" in ledger:
        from dotledger.ledger.batch_queries import batches
        from dotledger.ledger.ledger_store import LedgerStore

        with LedgerStore(ledger, create=False, read_only=True) as opened:
            kept = {batch.service: batch.description for batch in batches(opened)}
        if service in kept:
            return stored_description(kept[service]), None
        known = list(kept)
    raise ArgumentError(
        "neither a description's file nor a service that the ledger, or descriptions/, knows",
        place="--service",
        got=service,
        allowed=[*known, "a .toml file"],
    )


def _check_trusted(service: str, path: Path) -> None:
    """Refuse a name that only the current folder gives a meaning, until the user agrees to that."""
    from dotledger.cli.options.folder_trust import is_trusted

    if not path.is_absolute() and not is_trusted(path):
        raise ArgumentError(
            f"the name {service!r} is described in this folder, by a file that is not trusted yet",
            place="--service",
            got=service,
            next_step=f"Look at {path}; then give its path, or run: dotledger doctor --trust",
        )


def service_name(service: str | None) -> str | None:
    """Return the name of the service that ``--service`` means, also where it names a file."""
    if service is None or not _is_file(service):
        return service
    from dotledger.services.service_description import read_description

    return read_description(service).service


def _is_file(service: str) -> bool:
    return service.lower().endswith(".toml") or Path(service).is_file()


def replace_option(function: Function) -> Function:
    """Add ``--replace``."""
    return click.option(
        "--replace",
        is_flag=True,
        help="Let existing files be replaced (never inputs or ledgers).",
    )(function)


def code_option(function: Function) -> Function:
    """Add ``--allow-code``."""
    return click.option(
        "--allow-code",
        is_flag=True,
        help="Let code run that the description names as a key source; remembered.",
    )(function)


def threshold_option(function: Function) -> Function:
    """Add ``--threshold``; `threshold_of` turns its text into what the library takes."""
    return click.option(
        "--threshold",
        metavar="T",
        help="Leave out findings below: a number, a word of the service's own scale, "
        "NAME=VALUE,... by kind or label, or a file made by choose.",
    )(function)


def numbers_of(text: str, option: str) -> list[float]:
    """Return the numbers of a comma-separated list.

    Raises
    ------
    ArgumentError
        If a part is not a number.
    """
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:
        raise ArgumentError(
            "not a number, nor numbers with commas between", place=option, got=text
        ) from None


def threshold_of(text: str | None, *, several: bool = False) -> Any:
    """Return a threshold as the library takes it: a number, a word, names with values, a file.

    With `several`, numbers with commas between are a list.

    Raises
    ------
    ArgumentError
        If there are several numbers where one is meant.
    """
    if text is None:
        return None
    if text.lower().endswith(".toml"):
        from dotledger.formats.thresholds_files import read_thresholds

        return read_thresholds(text)
    if "=" in text:
        pairs = (part.partition("=") for part in text.split(","))
        return {name.strip(): value.strip() for name, _, value in pairs}
    try:
        numbers = [float(part) for part in text.split(",")]
    except ValueError:
        return text
    if len(numbers) > 1 and not several:
        raise ArgumentError("several thresholds where one is meant", place="--threshold", got=text)
    return numbers if len(numbers) > 1 else numbers[0]


def given_options(names: Sequence[str]) -> list[str]:
    """Return which of a command's options the user gave, as they are written: ``--at-most``."""
    context = click.get_current_context()
    own = {option.name: option.opts[0] for option in context.command.params}
    defaults = (click.core.ParameterSource.DEFAULT, click.core.ParameterSource.DEFAULT_MAP)
    return [own[name] for name in names if context.get_parameter_source(name) not in defaults]


def money(amount: float, currency: str) -> str:
    """Return an amount with its currency, with four decimals: one call may cost 0.0015."""
    return f"{amount:,.4f} {currency}"


def as_kinds(text: str | None) -> list[str] | None:
    """Return the kinds of a comma-separated list."""
    return None if text is None else [part.strip() for part in text.split(",") if part.strip()]


def one_kind(text: str | None) -> str | None:
    """Return the only kind of a list; raises ArgumentError for several, or for an unknown one."""
    from dotledger.core.kinds import check_kinds

    kinds = check_kinds(as_kinds(text) or (), place="--kinds")
    if len(kinds) > 1:
        raise ArgumentError("one kind at a time", place="--kinds", got=text, allowed=list(kinds))
    return kinds[0] if kinds else None


def settings_of(pairs: Sequence[str], option: str = "--set") -> dict[str, str]:
    """Return ``NAME=VALUE`` pairs as a mapping; raises ArgumentError for anything else."""
    for pair in pairs:
        if "=" not in pair:
            raise ArgumentError("write NAME=VALUE", place=option, got=pair)
    return dict(pair.split("=", 1) for pair in pairs)


def same_command(ledger: str) -> str:
    """Return the command as it was given, to be given again; without a ledger's password."""
    from dotledger.ledger.ledger_places import shown_address

    words = [word.replace(ledger, shown_address(ledger)) for word in sys.argv[1:]]
    return shlex.join(["dotledger", *words])


def say(text: str) -> None:
    """Print a message for people, to stderr."""
    click.echo(plain_text(text), err=True)


def in_options(text: str) -> str:
    """Return a text of the library with its arguments as options of the command that runs.

    Never for what users or services wrote: a label may look like an argument.
    """
    from dotledger.cli.options.option_names import as_options

    running = click.get_current_context(silent=True)
    return text if running is None else as_options(text, running.command)


def say_problems(what: str, problems: Sequence[tuple[str, str]]) -> None:
    """Print the first of (name, reason) to stderr, and how many more there are."""
    for name, reason in problems[:_MOST_PROBLEMS]:
        say(f"{what}: {name}: {in_options(reason)}")
    if len(problems) > _MOST_PROBLEMS:
        say(f"{what}: {len(problems) - _MOST_PROBLEMS:,} more")


def say_passed_over(passed_over: str) -> None:
    """Say what folders hold that was not taken for an image, if anything."""
    if passed_over:
        say(f"passed over, not taken for images: {passed_over}")


def print_json(output: str, values: Mapping[str, Any]) -> None:
    """Print what a command tells as one JSON document, with what it is and its version."""
    from dotledger.cli.output_schemas import head_of

    print_document({**head_of(output), **values})


def print_document(value: Any) -> None:
    """Print one JSON document to stdout."""
    from dotledger.json_codec import to_json

    click.echo(escaped_json(to_json(value, indent=True).decode()))


def print_table(*parts: Any, aside: bool = False) -> None:
    """Print tables and lines to stdout; a text is one line, whatever stands in it.

    What stands aside of the result goes to stderr.
    """
    from dotledger.report.terminal.terminal_tables import console, printed

    out = console()
    for part in parts:
        click.echo(printed(out, part), nl=False, err=aside)


def noticed(notes: Sequence[tuple[str, str, str]]) -> list[str]:
    """Return a line on what reading set aside or noticed, the most frequent first; none if nothing.

    `notes` are (image, reason, value).
    """
    from dotledger.reading.rule_reader import NOT_THERE

    counts = Counter(reason for _, reason, _ in notes if reason != NOT_THERE).most_common(5)
    listed = ", ".join(f"{reason} ({count})" for reason, count in counts)
    return [f"Set aside or noticed while reading: {listed}; see findings --notes."] * bool(counts)


def asked_findings(
    findings: str | None, ledger: str, service: str | None, batch: int | None
) -> Any:
    """Return findings from a file, or else from the ledger."""
    if findings is not None:
        from dotledger.formats.tables.findings_files import read_findings

        return read_findings(Path(findings))
    from dotledger.ledger_findings import findings_of

    return findings_of(ledger, batch=batch, service=service_name(service))


def truth_of(annotations: str | None, facts: str | None = None) -> Any:
    """Return what was annotated, with facts about the images if there are; None if nothing was."""
    if annotations is None:
        return None
    from dotledger.formats.annotations.annotation_files import read_annotations, read_image_facts

    truth = read_annotations(annotations)
    return truth if facts is None else truth.with_images(read_image_facts(facts))


def sent_shas(found: Any, ledger: str, renamed: Any) -> dict[str, str]:
    """Return by image the SHA-256 that was sent in the batch of the findings."""
    from dotledger.ledger.batch_queries import find_batch, sent_images
    from dotledger.ledger.ledger_store import LedgerStore

    with LedgerStore(ledger, create=False, read_only=True) as opened:
        sent = sent_images(opened, find_batch(opened, batch=found.origin.batch))
    return {renamed.get(one.name, one.name): one.sha for one in sent if one.sha}
