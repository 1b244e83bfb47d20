"""The command line: schema, check, forecast, run, solid, info, deliver."""

from __future__ import annotations

import argparse
import json
import signal
import sys
from dataclasses import asdict
from pathlib import Path
from types import FrameType
from typing import Any

from tqdm import tqdm

from basin.cache import Cache, DamagedFrame, StageBusy, open_cache
from basin.exchange import UnusableFile, write_ply
from basin.scene import Scene, SceneError, load_scene, scene_schema
from basin.stages.advice import checked
from basin.stages.deliver import DeliveryFailure, deliver, delivery_named, delivery_states
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.run import RunFailure, frames_to_make, run
from basin.stages.solid import solver_solid
from basin.stages.stage import Job, named, stages, usual

BAD_SCENE = 2


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns the exit code (0 well, 1 failed, 2 bad scene or arguments)."""
    options = _parser().parse_args(arguments)
    try:
        return int(options.command(options))
    except SceneError as error:
        print(error, file=sys.stderr)
        return BAD_SCENE
    except (RunFailure, DeliveryFailure, StageBusy, DamagedFrame, UnusableFile) as error:
        print(error, file=sys.stderr)
        return 1
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        print(f"{where}{error.strerror or error}", file=sys.stderr)
        return 1


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="python -m basin", description="Liquid simulation from a scene document.")
    commands = parser.add_subparsers(required=True, metavar="command")

    def command(name: str, action: object, text: str) -> argparse.ArgumentParser:
        added = commands.add_parser(name, help=text, description=text)
        added.set_defaults(command=action)
        return added

    command("schema", _schema, "Print the JSON schema of scene documents.")
    check = command("check", _check, "Say what is wrong with a scene.")
    check.add_argument("scene", type=Path)
    cost = command("forecast", _forecast, "Say what a scene's frames will cost.")
    cost.add_argument("scene", type=Path)
    cost.add_argument("--json", action="store_true")
    cost.add_argument("--quality", choices=("draft", "proof", "final"), default="final")
    make = command("run", _run, "Make frames; goes on where an earlier run ended.")
    make.add_argument("scene", type=Path)
    make.add_argument("--to", type=Path, required=True, metavar="DIR")
    make.add_argument(
        "--stages", type=_stages, help=f"comma-separated: {','.join(stages())}; the usual ones if left out"
    )
    make.add_argument("--frames", type=_span, metavar="A-B")
    make.add_argument("--quality", choices=("draft", "proof", "final"), default="final")
    make.add_argument("--threads", type=int, metavar="N")
    solid = command("solid", _solid, "Leave a collider as the solver's grid has it, and say how far that is off.")
    solid.add_argument("scene", type=Path)
    solid.add_argument("--element", required=True, metavar="NAME")
    solid.add_argument("--frame", type=int, metavar="N", help="the first frame if left out")
    solid.add_argument("--quality", choices=("draft", "proof", "final"), default="final")
    solid.add_argument("--to", type=Path, metavar="FILE.ply")
    info = command("info", _info, "Say what a cache holds.")
    info.add_argument("dir", type=Path)
    info.add_argument("--json", action="store_true")
    out = command("deliver", _deliver, "Write a delivery's files; renews only what changed.")
    out.add_argument("scene", type=Path)
    out.add_argument("--cache", type=Path, required=True, metavar="DIR")
    out.add_argument("--name", help="of the delivery; may be left out if the scene has one only")
    out.add_argument("--quality", choices=("draft", "proof", "final"), default="final")
    out.add_argument("--to", type=Path, required=True, metavar="DIR")
    return parser


def _span(text: str) -> tuple[int, int]:
    low, _, high = text.partition("-")
    if not low.isdigit() or (high and not high.isdigit()):
        raise argparse.ArgumentTypeError(f"{text!r}: write frames as A-B, such as 1-48")
    first, last = int(low), int(high or low)
    if last < first:
        raise argparse.ArgumentTypeError(f"{text}: runs backwards; write {last}-{first}")
    return first, last


def _stages(text: str) -> tuple[str, ...]:
    try:
        return tuple(stage.name for stage in named(text.split(",")))
    except LookupError as error:
        raise argparse.ArgumentTypeError(str(error.args[0])) from None


def _can_be_folder(path: Path) -> None:
    """RunFailure if something is there, or on the way there, that is no folder."""
    there = path
    while not there.exists() and there != there.parent:
        there = there.parent
    if not there.is_dir():
        raise RunFailure(f"{there}: is a file; name a folder")


def _schema(_options: argparse.Namespace) -> int:
    print(json.dumps(scene_schema(), indent=1, sort_keys=True))
    return 0


def _checked(path: Path) -> tuple[Scene, SceneFiles]:
    scene = load_scene(path)
    files = SceneFiles(path.parent)
    found = checked(scene, files)
    for remark in found.remarks:
        print(remark)
    if found.problems:
        raise SceneError(found.problems)
    return scene, files


def _check(options: argparse.Namespace) -> int:
    scene, _files = _checked(options.scene)
    print(
        f"{scene.name}: {len(scene.elements)} elements, frames {scene.time.first} to {scene.time.last}, nothing wrong"
    )
    return 0


def _forecast(options: argparse.Namespace) -> int:
    scene, files = _checked(options.scene)
    expected = forecast(Job(scene, files, Cache(options.scene.parent), options.quality))
    if options.json:
        whole = {"memory": expected.memory, "disk": expected.disk, "fits": expected.fits}
        print(json.dumps({**asdict(expected), **whole}))
        return 0
    print(f"{scene.name}, {options.quality}: voxel {expected.voxel_size * 1000:.4g} mm")
    print(f"  voxels     {expected.voxels:>14,}\n  particles  {expected.particles:>14,}")
    print(f"  memory     {expected.memory / 1e9:>11.2f} GB\n  disk       {expected.disk / 1e9:>11.2f} GB")
    for name, cost in expected.costs.items():
        print(f"    {name:9} {cost.memory / 1e9:>11.2f} GB {cost.disk / 1e9:>11.2f} GB")
    refusal = expected.refusal(expected.costs)
    if refusal:
        print(f"  {refusal}")
    return 0


def _solid(options: argparse.Namespace) -> int:
    scene, files = _checked(options.scene)
    names = [e.name for e in scene.elements]
    if options.element not in names:
        raise SceneError([f"{options.element!r}: there is no such element; there are {', '.join(map(repr, names))}"])
    frame = scene.time.first if options.frame is None else options.frame
    if not scene.time.first <= frame <= scene.time.last:
        raise RunFailure(f"frame {frame} lies outside the shot, which has {scene.time.first} to {scene.time.last}")
    found = solver_solid(scene, files, names.index(options.element), frame, options.quality)
    print(
        f"{options.element}, frame {frame}: voxel {found.voxel * 1000:.4g} mm, {len(found.mesh.triangle):,} triangles"
    )
    print(f"  off by {found.largest * 1000:.3g} mm at most, {found.mean * 1000:.3g} mm in the mean")
    if options.to:
        write_ply(options.to, found.mesh.position, found.mesh.triangle)
    return 0


def _run(options: argparse.Namespace) -> int:
    scene, _files = _checked(options.scene)
    _can_be_folder(options.to)
    stopping = False

    def ask_to_stop(_signal: int, _frame: FrameType | None) -> None:
        nonlocal stopping
        stopping = True

    before = [signal.signal(s, ask_to_stop) for s in (signal.SIGINT, signal.SIGTERM)]
    chosen = usual(scene) if options.stages is None else named(options.stages)
    total = sum(len(frames_to_make(stage, scene, *(options.frames or (None, None)))) for stage in chosen)
    try:
        with tqdm(total=total, unit="frame", dynamic_ncols=True) as bar:
            for done in run(
                scene,
                options.scene.parent,
                Cache(options.to),
                stages=options.stages,
                quality=options.quality,
                frames=options.frames,
                threads=options.threads,
                stop=lambda: stopping,
            ):
                bar.set_description(f"{done.stage} {done.frame}")
                shown = {k: int(done.readings[k]) for k in ("particles", "substeps", "triangles") if k in done.readings}
                bar.set_postfix(shown)
                bar.update()
    finally:
        for number, handler in zip((signal.SIGINT, signal.SIGTERM), before, strict=True):
            signal.signal(number, handler)
    if stopping:
        print("stopped; whole frames are kept, the same command goes on from there", file=sys.stderr)
        return 1
    return 0


def _info(options: argparse.Namespace) -> int:
    cache = open_cache(options.dir)
    found: dict[str, dict[str, Any]] = {}
    for stage in stages():
        store = cache.stage(stage)
        records = sorted(store.records().values(), key=lambda r: r.frame)
        if not records:
            continue
        damaged = [r.frame for r in records if not r.error and not store.verify(r)]
        found[stage] = {
            "frames": [r.frame for r in records if not r.error and r.frame not in damaged],
            "damaged": damaged,
            "failed": {str(r.frame): r.error for r in records if r.error},
            "bytes": store.size(),
            "seconds": sum(r.readings.get("seconds", 0.0) for r in records),
        }
    if options.json:
        print(json.dumps(found))
        return 0
    for stage, facts in found.items():
        frames: list[int] = facts["frames"]
        span = f"{min(frames)} to {max(frames)}" if frames else "none"
        print(f"{stage}: {len(frames)} frames ({span}), {facts['bytes'] / 1e6:.1f} MB, {facts['seconds']:.1f} s")
        if facts["damaged"]:
            print(f"  damaged, to be made again: {facts['damaged']}")
    if not found:
        print("nothing is cached here")
    return 0


def _deliver(options: argparse.Namespace) -> int:
    scene, files = _checked(options.scene)
    name = options.name
    if name is None and len(scene.deliveries) == 1:
        name = scene.deliveries[0].name
    delivery = delivery_named(scene, name or "")
    _can_be_folder(options.to)
    renewed = 0
    job = Job(scene, files, open_cache(options.cache), options.quality)
    made = deliver(job, delivery, options.to)
    total = len(delivery_states(job, delivery, options.to))
    for one in tqdm(made, total=total, unit="file", dynamic_ncols=True):
        renewed += not one.reused
    print(f"{delivery.name}: {renewed} files written, the others were current; {options.to}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
