"""`herald fleet`: run the simulated fleet until told to stop."""

import asyncio
import signal
from pathlib import Path
from typing import Annotated

import typer
import uvloop

from herald_devices.device import Device
from herald_devices.link import TIMEOUT_SECONDS, Gateway, open_session
from herald_devices.manifest import load_manifest
from herald_devices.memory import Memory
from herald_devices.outages import Outages, Uplink

#: so often it is looked whether calls end, and so many looks in a row without one mean that none ever will: each call
#: ends by itself, well or badly, within two timeouts
LOOK_SECONDS = 5.0
NO_FILE = Path("/nonexistent")
MOST_LOOKS = 2 * TIMEOUT_SECONDS // LOOK_SECONDS + 6


def main(
    manifest: Annotated[Path, typer.Option(help="the devices, as JSON")],
    gateway: Annotated[str, typer.Option(help="address of the device gateway")],
    memory: Annotated[Path, typer.Option(help="what devices remember over a loss of power")],
    speed: Annotated[float, typer.Option(help="how fast the demo's time passes")] = 1.0,
    outages: Annotated[Path, typer.Option(help="sites that are cut off, as JSON; read anew as it changes")] = NO_FILE,
) -> None:
    """Play every device of the manifest."""
    uvloop.run(_run(manifest, gateway, memory, speed, Outages(outages)))


async def _run(manifest: Path, base: str, memory_path: Path, speed: float, outages: Outages) -> None:
    personas, faults = load_manifest(manifest)
    memory = Memory(memory_path)
    async with open_session() as session:
        server = Gateway(base, session)
        lives = [
            asyncio.create_task(Device(p, faults, Uplink(server, p.site, outages), memory, speed).live())
            for p in personas
        ]
        stop = asyncio.Event()
        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, stop.set)
        watch = [asyncio.create_task(w) for w in (_watch(lives), _notice_standstill(server), stop.wait())]
        await asyncio.wait(watch, return_when=asyncio.FIRST_COMPLETED)
        for task in (*lives, *watch):
            task.cancel()
        outcomes = await asyncio.gather(*lives, *watch, return_exceptions=True)
    broken = [o for o in outcomes if isinstance(o, Exception)]
    if broken:
        raise broken[0]


async def _watch(lives: list[asyncio.Task[None]]) -> None:
    """Ends when a device's task breaks: a fault of the simulation must not pass for a silent device."""
    pending = set(lives)
    while pending:
        done, pending = await asyncio.wait(pending, return_when=asyncio.FIRST_COMPLETED)
        if any(t.exception() for t in done if not t.cancelled()):
            return
    await asyncio.Event().wait()


class Standstill(RuntimeError):
    """Calls are under way, and none of them ends: nothing would ever go on."""


async def _notice_standstill(server: Gateway) -> None:
    """Ends the process, which is then started again, when its calls stand still.

    Looks are counted, not time, so that a process that was itself paused is not taken for one that stands still.
    """
    ended, looks = server.ended, 0.0
    while True:
        await asyncio.sleep(LOOK_SECONDS)
        looks = looks + 1 if server.in_hand and server.ended == ended else 0
        ended = server.ended
        if looks >= MOST_LOOKS:
            raise Standstill(f"{server.in_hand} calls under way, and none ended for {looks * LOOK_SECONDS:g} s")


if __name__ == "__main__":
    typer.run(main)
