"""`herald fleet`: run the simulated fleet until told to stop."""

import asyncio
import signal
from pathlib import Path
from typing import Annotated

import aiohttp
import typer
import uvloop

from herald_devices.device import Device
from herald_devices.link import Gateway
from herald_devices.manifest import load_manifest
from herald_devices.memory import Memory

CONNECTIONS = 128
TIMEOUT_SECONDS = 60


def main(
    manifest: Annotated[Path, typer.Option(help="the devices, as JSON")],
    gateway: Annotated[str, typer.Option(help="address of the device gateway")],
    memory: Annotated[Path, typer.Option(help="what devices remember over a loss of power")],
    speed: Annotated[float, typer.Option(help="how fast the demo's time passes")] = 1.0,
) -> None:
    """Play every device of the manifest."""
    uvloop.run(_run(manifest, gateway, memory, speed))


async def _run(manifest: Path, base: str, memory_path: Path, speed: float) -> None:
    personas, faults = load_manifest(manifest)
    memory = Memory(memory_path)
    timeout = aiohttp.ClientTimeout(total=None, connect=TIMEOUT_SECONDS, sock_read=TIMEOUT_SECONDS)
    connector = aiohttp.TCPConnector(limit=CONNECTIONS)
    async with aiohttp.ClientSession(timeout=timeout, connector=connector) as session:
        server = Gateway(base, session)
        lives = [asyncio.create_task(Device(p, faults, server, memory, speed).live()) for p in personas]
        stop = asyncio.Event()
        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, stop.set)
        watch = [asyncio.create_task(_watch(lives)), asyncio.create_task(stop.wait())]
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


if __name__ == "__main__":
    typer.run(main)
