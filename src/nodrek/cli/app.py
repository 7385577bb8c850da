"""The command line: arguments in, text or JSON out.

Every error a person can cause ends here as one sentence on standard error, exit code 2.
Jobs are imported inside their commands, so that each command pays only for what it uses.
"""

from __future__ import annotations

import gc
import os
import sys
import warnings
from pathlib import Path
from typing import Annotated

import click
import typer

from nodrek.errors import NodrekError

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    help="Compare the logged wheel speeds of a vehicle's corners.",
)


@app.callback(invoke_without_command=True)
def window(
    context: typer.Context,
    demo: Annotated[bool, typer.Option("--demo", help="Open the demo job.")] = False,
) -> None:
    """Open the window."""
    if context.invoked_subcommand is None:
        from nodrek.desktop.start import start

        raise typer.Exit(start(demo=demo))


@app.command("open")
def open_log(log: Annotated[Path, typer.Argument(help="The log to open in the window.")]) -> None:
    """Open the window with a log in it."""
    from nodrek.desktop.start import start

    raise typer.Exit(start(path=log))


@app.command()
def analyze(
    log: Annotated[Path, typer.Argument(help="The log of a drive.")],
    as_json: Annotated[bool, typer.Option("--json", help="One JSON object on standard output.")] = False,
    database: Annotated[
        list[Path] | None,
        typer.Option("--database", metavar="FILE", help="Bus database of a raw bus log; may be repeated."),
    ] = None,
    vehicle: Annotated[Path | None, typer.Option(help="JSON file with what is known of the vehicle.")] = None,
    mapping: Annotated[
        list[str] | None, typer.Option("--map", metavar="CORNER=NAME", help="Column of a corner, or of REF.")
    ] = None,
    start: Annotated[float | None, typer.Option("--from", metavar="S", help="Begin of the part analysed.")] = None,
    stop: Annotated[float | None, typer.Option("--to", metavar="S", help="End of the part analysed.")] = None,
) -> None:
    """Say which corner is bad, what kind of fault it is and how sure that is."""
    from nodrek.cli.options import parse_mapping
    from nodrek.io.vehicle import read_vehicle
    from nodrek.jobs.analyze import analyze_file

    named = parse_mapping(mapping or [])
    answer = analyze_file(
        log,
        vehicle=read_vehicle(vehicle) if vehicle else None,
        mapping=named.corners,
        reference=named.reference,
        databases=tuple(database or ()),
        start=start,
        stop=stop,
    )
    if as_json:
        import json

        from nodrek.io.contract.analysis import analysis_json

        document = analysis_json(
            str(answer.source.path), answer.source.sha256, answer.source.format, answer.log, answer.analysis
        )
        typer.echo(json.dumps(document, ensure_ascii=False, indent=1))
    else:
        from nodrek.cli.show import answer_text

        typer.echo(answer_text(answer))


@app.command()
def diagnose(
    case: Annotated[Path, typer.Argument(help="The case file (*.nodrek.json).")],
    as_json: Annotated[bool, typer.Option("--json", help="One JSON object on standard output.")] = False,
    order: Annotated[
        list[str] | None, typer.Option("--order", metavar="CHECK", help="Your own order of checks, to see its cost.")
    ] = None,
) -> None:
    """Weigh everything a case holds: causes with their odds, the next check, what it costs."""
    from nodrek.cli.options import parse_order
    from nodrek.jobs.diagnose import diagnose_file

    diagnosis, knowledge = diagnose_file(case, parse_order(order or []))
    if as_json:
        import json

        from nodrek.io.contract.diagnosis import diagnosis_json

        typer.echo(json.dumps(diagnosis_json(diagnosis, knowledge.cautions), ensure_ascii=False, indent=1))
    else:
        from nodrek.cli.show_diagnosis import diagnosis_text

        typer.echo(diagnosis_text(diagnosis, knowledge))


@app.command()
def convert(
    log: Annotated[Path, typer.Argument(metavar="IN", help="The log to read, of any kind.")],
    output: Annotated[Path, typer.Argument(metavar="OUT", help="The file to write: .csv, .parquet or .mf4.")],
    database: Annotated[list[Path] | None, typer.Option("--database", metavar="FILE", help="Bus database.")] = None,
    mapping: Annotated[
        list[str] | None, typer.Option("--map", metavar="CORNER=NAME", help="Column of a corner, or of REF.")
    ] = None,
) -> None:
    """Write a log in an open format, names and units kept."""
    from nodrek.cli.options import parse_mapping
    from nodrek.jobs.convert import convert_file

    raw = convert_file(log, output, mapping=parse_mapping(mapping or []).corners, databases=tuple(database or ()))
    typer.echo(f"{len(raw.channels)} channels written to {output}.")


@app.command()
def simulate(
    scenario: Annotated[str, typer.Argument(help="Name of a scenario that ships, or a TOML file.")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="FILE", help="The CSV file to write.")],
    seed: Annotated[int | None, typer.Option(help="Another drive of the same scenario.")] = None,
) -> None:
    """Drive a simulated vehicle and log its wheel speeds."""
    from nodrek.jobs.simulate import simulate_to_file

    title, rows = simulate_to_file(scenario, output, seed)
    typer.echo(f"{title}: {rows} rows written to {output}.")


def main() -> None:
    """Entry point: whatever a person can cause becomes one sentence and exit code 2."""
    # imports make many objects and no garbage: collecting them again and again is a tenth of a short command
    gc.set_threshold(500_000, 20, 20)
    # models need no plugins of other packages, and looking for them reads every installed package's list
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    # what libraries warn of in a file is no sentence for a person; ours says what is wrong with it
    warnings.simplefilter("ignore")
    try:
        code = app(standalone_mode=False)
    except NodrekError as error:
        _refuse(str(error))
    except click.ClickException as error:
        told = error.format_message()
        _refuse(f"{' '.join(told.split()).rstrip('.')}. See nodrek --help.")
    except MemoryError:
        _refuse("there is not enough memory for this log: analyze a part with --from and --to.")
    except (BrokenPipeError, typer.Abort):
        raise SystemExit(0) from None
    raise SystemExit(code if isinstance(code, int) else 0)


def _refuse(sentence: str) -> None:
    sys.stderr.write(f"nodrek: {sentence}\n")
    raise SystemExit(2) from None
