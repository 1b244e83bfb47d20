"""Liquid that parts from walls: which it leaves, which it does not, and what the solve then keeps."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.liquid import pressure
from basin.liquid.parting import HANGING, Parting
from basin.liquid.step import Liquid
from basin.scene import parse_scene
from basin.stages.liquid_stage import state_arrays, state_from
from tests.reference.tanks import G, box_fill, liquid

DX, DT = 0.05, 0.005
SIZE = (0.8, 0.8, 0.4)
FALL = G * DT / DX  # voxels/s that gravity gives
LEVEL = 0.05  # of that: particles lie level to some hundredths of a voxel
HELD = HANGING / 6  # of that: a wall may bear half a voxel's weight of blocks six voxels high


class Case(SimpleTestCase):
    """One projection of liquid at rest that gravity has just pulled at."""

    def parted(
        self, run: Liquid, kick: tuple[float, float, float] = (0.0, -FALL, 0.0), **more: Any
    ) -> tuple[Parting, list[np.ndarray], Any]:
        fields = run.fields(0.0)
        solids = run.solid_world.at(fields.tiles, 0.0, DT)
        velocity = [np.full_like(field, pull) for field, pull in zip(fields.velocity, kick, strict=True)]
        system = pressure.assemble(fields.phi, solids)
        parting = Parting(system, pressure.Surface(fields.phi), solids)
        _, solution = parting.project(velocity, np.array(kick), **more)
        return parting, velocity, solution

    def below(self, parting: Parting, velocity: list[np.ndarray]) -> np.ndarray:
        """Upward speeds (n,) through the lower faces of all cells that are liquid, and whose lower neighbour is too."""
        index = parting.system.index
        inside = (index >= 0) & (np.roll(index, 1, axis=2) >= 0)
        inside[:, :, 0] = False  # neighbours in other tiles
        return velocity[1][inside]


class Ceilings(Case):
    """Liquid under a ceiling with air at its sides falls at once, all of it (Galilei)."""

    def hung(self, low: float = 0.2, high: float = 0.6) -> Liquid:
        return liquid(DX, SIZE, [box_fill((low, 0.5, 0), (high, 0.8, 0.4))])

    def test_it_falls_with_gravity(self) -> None:
        parting, velocity, solution = self.parted(self.hung())
        # all upper faces under the ceiling, but perhaps those at the two sides with air, where next to nothing pulls
        self.assertGreaterEqual(int((parting.face % 6 == 3).sum()), 6 * 8)
        self.assertAlmostEqual(float(self.below(parting, velocity).mean()) / -FALL, 1.0, delta=HELD)
        self.assertLess(solution.residual, 1e-6)

    def test_what_its_adhesion_bears_hangs(self) -> None:
        # 0.3 m of water pull with g h dt / dx^2 in the pressure's unit
        pull = G * 0.3 * DT / DX**2
        parting, velocity, _ = self.parted(self.hung(0.0, 0.8), bears=1.1 * pull)
        self.assertEqual(len(parting.face), 0)
        self.assertLess(float(np.abs(self.below(parting, velocity)).max()), LEVEL * FALL)
        parting, velocity, _ = self.parted(self.hung(0.0, 0.8), bears=0.1 * pull)
        self.assertAlmostEqual(float(self.below(parting, velocity).mean()) / -FALL, 1.0, delta=0.1 + HELD)

    def test_a_full_box_has_no_air_to_follow(self) -> None:
        full = liquid(DX, SIZE, [box_fill((0, 0, 0), SIZE)])
        parting, velocity, _ = self.parted(full)
        self.assertEqual(len(parting.face), 0)
        self.assertLess(float(np.abs(self.below(parting, velocity)).max()), 1e-3)


class Pressed(Case):
    """Walls that liquid rests on hold it, whatever was open before."""

    def pool(self) -> Liquid:
        return liquid(DX, SIZE, [box_fill((0, 0, 0), (0.8, 0.3, 0.4))])

    def test_nothing_opens_and_it_is_the_plain_projection(self) -> None:
        parting, velocity, solution = self.parted(self.pool())
        self.assertEqual(len(parting.face), 0)
        self.assertLess(float(np.abs(self.below(parting, velocity)).max()), LEVEL * FALL)
        self.assertGreater(float(solution.value.max()), 0.0)

    def test_what_was_open_is_closed_again(self) -> None:
        first = self.parted(self.pool())[0]
        cell = first.system.cells().astype(np.int64)
        wet = cell[(cell[:, 1] == cell[:, 1].max()) & (cell[:, 0] == cell[:, 0].min())]  # at a side, next to the air
        before = ((wet[:, 0] << 20 | wet[:, 1]) << 20) | wet[:, 2]
        self.assertEqual(len(before), 8)
        # pressed against that side
        parting, velocity, _ = self.parted(self.pool(), (-FALL, -FALL, 0.0), before=before)
        alone, expected, _ = self.parted(self.pool(), (-FALL, -FALL, 0.0))
        side = [face for face in parting.face.tolist() if face % 6 == 0]
        self.assertEqual(side, [face for face in alone.face.tolist() if face % 6 == 0])
        np.testing.assert_allclose(velocity[0], expected[0], atol=1e-4 * FALL)


class Remembered(Case):
    """What parted is known in the next substep, and by a run that goes on from a restart state."""

    def test_cells_come_back(self) -> None:
        run = liquid(DX, SIZE, [box_fill((0.2, 0.5, 0), (0.6, 0.8, 0.4))])
        once = self.parted(run)[0]
        again, velocity, _ = self.parted(run, before=once.cells())
        self.assertEqual(set(once.face[once.face % 6 == 3]), set(again.face[again.face % 6 == 3]))
        self.assertAlmostEqual(float(self.below(again, velocity).mean()) / -FALL, 1.0, delta=HELD)
        elsewhere = np.array([(500 << 40) | (500 << 20) | 500])
        self.assertEqual(len(self.parted(run, before=elsewhere)[0].face), len(once.face))

    def test_a_restart_state_holds_them(self) -> None:
        run = liquid(DX, SIZE, [box_fill((0.2, 0.5, 0), (0.6, 0.8, 0.4))])
        run.advance_frame(2)
        kept = state_from(state_arrays(run.state)).parted
        self.assertEqual([len(cells) > 0 for cells in run.state.parted], [True, False])
        for mine, theirs in zip(run.state.parted, kept, strict=True):
            np.testing.assert_array_equal(mine, theirs)


class Older(SimpleTestCase):
    """Scenes from before walls had an adhesion are read."""

    def test_wall_contact_is_left_out(self) -> None:
        for contact in ("clinging", "leaving"):
            scene = parse_scene({"format": "zinc-scene/1", "liquid": {"wall_contact": contact}})
            self.assertEqual(scene.liquid.wall_adhesion, 0.0)
            self.assertNotIn("wall_contact", scene.liquid.model_dump())
