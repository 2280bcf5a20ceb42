"""The project's tasks: ``nox -s NAME``; ``nox`` alone runs what CI runs."""

import nox

nox.options.sessions = ["lint", "types", "imports", "tests"]
nox.options.error_on_missing_interpreters = False


@nox.session
def lint(session):
    """Check style and format."""
    session.install("ruff>=0.6")
    session.run("ruff", "check", ".")
    session.run("ruff", "format", "--check", ".")


@nox.session
def types(session):
    """Check types, strictly."""
    session.install(".[dev]")
    session.run("mypy")


@nox.session
def imports(session):
    """Check the direction of imports."""
    session.install(".[dev]")
    session.run("lint-imports")


@nox.session(python=["3.11", "3.12", "3.13", "3.14"])
def tests(session):
    """Run all tests, with every Python that is there."""
    session.install(".[dev]")
    session.run("python", "-m", "unittest")


@nox.session
def docs(session):
    """Build the pages into docs/_build; a warning or a dead link is an error."""
    session.install(".[dev]")
    session.run("sphinx-build", "-q", "-n", "-W", "--keep-going", "docs", "docs/_build")
    session.run("python", "docs/links.py", "docs/_build")


@nox.session
def bench(session):
    """Measure ratios of speed and memory in one run."""
    session.install(".[dev]")
    session.run("python", "-m", "benchmarks", *session.posargs)
