"""The command line: open, demo, run, inspect, convert."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated, Optional

import typer

from kind_rivet.core.errors import Refused, Unreadable

app = typer.Typer(add_completion=False, no_args_is_help=True, help="Kind Rivet: midsurfaces, shell meshes and sets for thin-walled parts.")
DONE, USAGE, UNREADABLE, BLOCKED = 0, 2, 3, 4


def fail(error: Refused) -> int:
    """Say the reason on stderr; the exit code of the contract."""
    print(f"kind-rivet: {error}", file=sys.stderr)
    return UNREADABLE if isinstance(error, Unreadable) else USAGE


@app.command()
def run(
    part: Annotated[Path, typer.Argument(help="STEP file")],
    size: Annotated[float, typer.Option(help="Wanted element size in millimetres")],
    out: Annotated[Path, typer.Option(help="Folder for the files")],
    sheet: Annotated[Optional[Path], typer.Option(help="Job sheet (TOML) with operations to carry out instead of the usual job")] = None,
) -> None:
    """Do the usual job without a window: midsurfaces, shells with washers, optimise, check, sets, files."""
    from kind_rivet.headless import run_job

    try:
        code = run_job(part, size, out, sheet)
    except Refused as error:
        code = fail(error)
    raise typer.Exit(code)


@app.command()
def inspect(
    file: Annotated[Path, typer.Argument(help="Any file Kind Rivet reads")],
    as_json: Annotated[bool, typer.Option("--json", help="Machine-readable")] = False,
) -> None:
    """Say what is in a file: bodies with walls and holes, or a mesh with counts, quality and sets."""
    from kind_rivet.headless import inspect_file, plain_words

    try:
        facts = inspect_file(file)
    except Refused as error:
        raise typer.Exit(fail(error)) from None
    print(json.dumps(facts, indent=1) if as_json else plain_words(facts))


@app.command()
def convert(source: Annotated[Path, typer.Argument(metavar="IN")], target: Annotated[Path, typer.Argument(metavar="OUT")]) -> None:
    """Convert a mesh between VTU and Exodus II."""
    from kind_rivet.headless import convert_file

    try:
        convert_file(source, target)
    except Refused as error:
        raise typer.Exit(fail(error)) from None


@app.command("open")
def open_window(file: Annotated[Optional[Path], typer.Argument(help="STEP file or .rivet document")] = None) -> None:
    """Open the window, on wish with a file."""
    from kind_rivet.app.main import main

    raise typer.Exit(main(file))


@app.command()
def demo(out: Annotated[Path, typer.Option(help="Where the off-screen walk leaves its files")] = Path("demo-out")) -> None:
    """Open the window on the cradle tray; without a display walk the whole example off-screen."""
    from kind_rivet.app.demo import demo as show

    raise typer.Exit(show(out))


@app.command()
def bench() -> None:
    """Run the benchmarks and print their ratios."""
    import runpy

    root = Path(__file__).resolve().parents[2]
    runpy.run_path(str(root / "bench" / "run.py"), run_name="__main__")


def main() -> None:
    app()


if __name__ == "__main__":
    main()
