"""``./zinc bench --actions``: presses, keys and seconds of each action of setting up by hand; writes docs/actions.md.

The tests of the page do each action as an artist would, and count; this runs them and keeps what they counted.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PAGE = ROOT / "docs" / "actions.md"
FLOWS = ("tests.browser.test_proof", "tests.browser.test_hand")


def main() -> None:
    """Run the flows, one after the other, and write the table."""
    with tempfile.TemporaryDirectory() as folder:
        kept = Path(folder) / "actions.jsonl"
        command = [sys.executable, str(ROOT / "zinc"), "test", *FLOWS]
        done = subprocess.run(command, env={**os.environ, "ZINC_ACTIONS": str(kept)}, cwd=ROOT)
        if done.returncode or not kept.is_file():
            sys.exit("the flows did not pass; nothing is written")
        found = [json.loads(line) for line in kept.read_text(encoding="utf-8").splitlines()]
    lines = [
        "# What each action of setting up takes",
        "",
        "Written by `./zinc bench --actions` from the browser tests, which do each as an artist would, in a browser",
        "that draws without a graphics card. Presses are of the pointer (a drag is one), keys are all keys that go",
        "down; seconds are until the server has kept it, and there is no thinking in them.",
    ]
    for flow in dict.fromkeys(one["flow"] for one in found):
        lines += ["", f"## {flow.rstrip('.')}", "", "| action | presses | keys | seconds |", "|---|---|---|---|"]
        own = [one for one in found if one["flow"] == flow]
        lines += [f"| {o['action']} | {o['presses']} | {o['keys']} | {o['seconds']:.1f} |" for o in own]
        total = [sum(o[name] for o in own) for name in ("presses", "keys", "seconds")]
        lines.append(f"| **together** | {total[0]} | {total[1]} | {total[2]:.1f} |")
    PAGE.write_text("\n".join(lines) + "\n", encoding="utf-8")
    print(f"wrote {PAGE.relative_to(ROOT)}")


if __name__ == "__main__":
    main()
