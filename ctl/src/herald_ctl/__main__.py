"""The commands. What each does stands beside it, in `looking`, `acting` and `watching`."""

import sys
from enum import StrEnum
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from herald_ctl import acting, configuring, looking, watching
from herald_ctl.api import Api, Trouble, connect
from herald_ctl.printing import Output, safe

app = typer.Typer(no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False)
images = typer.Typer(no_args_is_help=True, help="Images.")
app.add_typer(images, name="image")


class ListKind(StrEnum):
    """What can be listed."""

    ATTENTION = "attention"
    DEVICES = "devices"
    GROUPS = "groups"
    IMAGES = "images"
    ROLLOUTS = "rollouts"
    SCHEDULES = "schedules"
    SITES = "sites"


class ShowKind(StrEnum):
    """What can be shown."""

    DEVICE = "device"
    GROUP = "group"
    IMAGE = "image"
    ROLLOUT = "rollout"
    SCHEDULE = "schedule"


class Session:
    """What the options before a command say."""

    def __init__(self, url: str | None, token_file: Path | None) -> None:
        self._url, self._token_file = url, token_file

    def api(self) -> Api:
        """The installation, connected to when it is needed."""
        return connect(self._url, self._token_file, _complain)


def _complain(words: str) -> None:
    """Say something beside what a command answers."""
    lines = "\n".join(safe(line) for line in words.splitlines())
    Console(stderr=True, highlight=False, emoji=False, markup=False).print(f"herald-ctl: {lines}", soft_wrap=True)


AsJson = Annotated[bool, typer.Option("--json", help="Write JSON, for programs.")]
Rollout = Annotated[str, typer.Argument(metavar="ROLLOUT", help="Its id, or its name.")]
Yes = Annotated[bool, typer.Option("--yes", help="Agree to what it says, without being asked.")]


def _show_version(wanted: bool) -> None:
    if wanted:
        try:
            typer.echo(version("herald-ctl"))
        except PackageNotFoundError:
            typer.echo("not installed")
        raise typer.Exit


@app.callback()
def options(
    context: typer.Context,
    url: Annotated[str | None, typer.Option(help="Where Brisk Herald is; else HERALD_URL.")] = None,
    token_file: Annotated[
        Path | None, typer.Option(help="A file with an API token; else HERALD_TOKEN_FILE, or HERALD_TOKEN.")
    ] = None,
    show_version: Annotated[
        bool, typer.Option("--version", callback=_show_version, is_eager=True, help="Say which version this is.")
    ] = False,
) -> None:
    """Brisk Herald on the command line."""
    context.obj = Session(url, token_file)


@app.command("list")
def list_(
    context: typer.Context,
    kind: ListKind,
    search: Annotated[str | None, typer.Option(help="Only what has this in its name.")] = None,
    rule: Annotated[str | None, typer.Option(help="Only devices that this rule matches.")] = None,
    limit: Annotated[int, typer.Option(min=1, help="At most so many.")] = 50,
    as_json: AsJson = False,
) -> None:
    """List what there is."""
    if rule is not None and kind != "devices":
        raise Trouble("--rule is for devices.")
    if kind == "attention" and search is not None:
        raise Trouble("--search is not for attention.")
    asked = looking.Asked(search, rule, limit)
    looking.write_list(context.obj.api(), Output(as_json=as_json), kind, asked)


@app.command()
def show(context: typer.Context, kind: ShowKind, word: str, as_json: AsJson = False) -> None:
    """Show one thing, by its id or name."""
    looking.SHOWN[kind](context.obj.api(), Output(as_json=as_json), word)


@app.command()
def preview(
    context: typer.Context,
    rule: Annotated[str, typer.Argument(help="A rule; - reads it from the standard input.")],
    limit: Annotated[int, typer.Option(min=0, help="Show so many devices.")] = 10,
    as_json: AsJson = False,
) -> None:
    """Say whom a rule finds now."""
    text = sys.stdin.read() if rule == "-" else rule
    looking.write_preview(context.obj.api(), Output(as_json=as_json), text, limit)


@app.command()
def launch(
    context: typer.Context,
    rollout: Rollout,
    devices: Annotated[int | None, typer.Option(min=0, help="How many devices may be reached.")] = None,
    reason: Annotated[str, typer.Option(help="Why, where the same was halted before.")] = "",
    as_json: AsJson = False,
) -> None:
    """Launch a draft, after saying whom it reaches."""
    acting.launch(context.obj.api(), Output(as_json=as_json), rollout, devices, reason)


@app.command()
def watch(context: typer.Context, rollout: Rollout, as_json: AsJson = False) -> None:
    """Follow a rollout to its end. Ends with 0 if it finished, with 3 if it halted or was stopped."""
    raise typer.Exit(watching.watch(context.obj.api(), Output(as_json=as_json), rollout))


@app.command()
def pause(context: typer.Context, rollout: Rollout, as_json: AsJson = False) -> None:
    """Give no more devices the order, until it is resumed."""
    acting.step_in(context.obj.api(), Output(as_json=as_json), "pause", rollout, yes=True)


@app.command()
def resume(context: typer.Context, rollout: Rollout, yes: Yes = False, as_json: AsJson = False) -> None:
    """Go on with a rollout that was paused or has halted."""
    acting.step_in(context.obj.api(), Output(as_json=as_json), "resume", rollout, yes=yes)


@app.command()
def stop(context: typer.Context, rollout: Rollout, yes: Yes = False, as_json: AsJson = False) -> None:
    """End a rollout for good."""
    acting.step_in(context.obj.api(), Output(as_json=as_json), "stop", rollout, yes=yes)


@app.command("open-gate")
def open_gate(context: typer.Context, rollout: Rollout, yes: Yes = False, as_json: AsJson = False) -> None:
    """Open the next ring although its gate is not met."""
    acting.step_in(context.obj.api(), Output(as_json=as_json), "open-gate", rollout, yes=yes)


Folder = Annotated[Path, typer.Argument(metavar="FOLDER", help="Where the files are.", file_okay=False)]
Delete = Annotated[bool, typer.Option("--delete", help="Delete what is in no file, of the kinds that have files.")]


@app.command()
def export(context: typer.Context, folder: Folder, as_json: AsJson = False) -> None:
    """Write the configuration into files, one a kind."""
    configuring.export(context.obj.api(), Output(as_json=as_json), folder)


@app.command()
def diff(context: typer.Context, folder: Folder, deletes: Delete = False, as_json: AsJson = False) -> None:
    """Show what applying files would do, and what that sets off. Ends with 3 where there is something to do."""
    raise typer.Exit(configuring.compare(context.obj.api(), Output(as_json=as_json), folder, deletes=deletes))


@app.command()
def apply(
    context: typer.Context,
    folder: Folder,
    deletes: Delete = False,
    digest: Annotated[str, typer.Option(help="What `diff` showed; without it, it is shown and asked.")] = "",
    revision: Annotated[str | None, typer.Option(help="What the files call their state; else what git says.")] = None,
    as_json: AsJson = False,
) -> None:
    """Apply files, as one act."""
    out = Output(as_json=as_json)
    configuring.apply(context.obj.api(), out, folder, deletes=deletes, digest=digest, revision=revision)


@images.command("add")
def add_image(
    context: typer.Context,
    file: Annotated[Path, typer.Argument(help="The file that devices install.")],
    firmware: Annotated[str, typer.Option("--firmware", help="The version that it brings.")],
    model: Annotated[list[str], typer.Option(help="A model that it is for; may be given several times.")],
    channel: Annotated[str | None, typer.Option(help="A channel, if not stable.")] = None,
    min_version: Annotated[str | None, typer.Option(help="Upgrades from no older version.")] = None,
    notes: Annotated[str | None, typer.Option(help="What is new in it.")] = None,
    expected_minutes: Annotated[int | None, typer.Option(min=1, help="How long an install takes.")] = None,
    as_json: AsJson = False,
) -> None:
    """Send a file, and make an image of it."""
    said: dict[str, Any] = {"channel": channel, "min_version": min_version, "notes": notes}
    said |= {"expected_minutes": expected_minutes}
    about = {"version": firmware, "models": model, **{k: v for k, v in said.items() if v is not None}}
    acting.add_image(context.obj.api(), Output(as_json=as_json), file, about)


def main() -> None:
    """Run a command; what keeps it from being carried out is said in words, and ends with 1."""
    try:
        app()
    except Trouble as trouble:
        _complain(str(trouble))
        raise SystemExit(1) from None


if __name__ == "__main__":
    main()
