"""Single steps of the liquid and of the viewing: what each claims."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any
from unittest import mock

import numpy as np
from django.test import SimpleTestCase
from scipy.stats import kstest

from basin.geometry.mesh import vertex_normals
from basin.geometry.primitives import sphere_mesh
from basin.grid.layout import PAD, make_layout
from basin.grid.tiles import tile_set
from basin.liquid import extrapolation, levelset, spacing
from basin.liquid.band import made_of
from basin.liquid.particles import Particles, new_ids
from basin.liquid.pressure import assemble
from basin.liquid.resampling import resampled
from basin.liquid.sorting import Arranged, sorted_particles
from basin.liquid.step import Liquid
from basin.liquid.timestep import Limits, steps_left
from basin.liquid.world import LiquidFailure, LiquidState
from basin.randomness import uniform
from basin.stages.liquid_stage import frame_readings, state_arrays, state_from
from basin.stages.view import LEVELS, octahedral, pack_mesh
from tests.reference.tanks import G, box_fill, liquid, position


def unpacked(data: bytes) -> tuple[dict, dict[str, np.ndarray]]:
    """Read the packed layout as the page does."""
    assert data[:4] == b"ZBV1"
    length = int(np.frombuffer(data, "<u4", 1, 4)[0])
    header = json.loads(data[8 : 8 + length])
    arrays, at = {}, 8 + length
    for name, kind, size in header["arrays"]:
        arrays[name] = np.frombuffer(data, kind, size, at)
        at += -(-arrays[name].nbytes // 4) * 4
    return header, arrays


class Packing(SimpleTestCase):
    """Frames for the viewport keep places to half a step of 16 bits and normals to two degrees."""

    def test_mesh_round_trip(self) -> None:
        mesh = sphere_mesh(0.7, 48)
        header, arrays = unpacked(pack_mesh(mesh.position, mesh.triangle))
        place = arrays["position"].reshape(-1, 3) / LEVELS * np.array(header["span"]) + np.array(header["low"])
        self.assertLess(float(np.abs(place - mesh.position).max()), 0.51 * 1.4 / LEVELS)
        np.testing.assert_array_equal(arrays["index"].reshape(-1, 3), mesh.triangle)

    def test_octahedral_normals(self) -> None:
        mesh = sphere_mesh(1.0, 32)
        normal = vertex_normals(mesh.position, mesh.triangle)
        folded = octahedral(normal) / 127.0
        z = 1 - np.abs(folded).sum(axis=1)
        sign = np.where(folded >= 0, 1.0, -1.0)
        xy = np.where((z < 0)[:, None], (1 - np.abs(folded[:, ::-1])) * sign, folded)
        back = np.column_stack([xy, z])
        back /= np.linalg.norm(back, axis=1, keepdims=True)
        self.assertGreater(float(np.einsum("ij,ij->i", back, normal).min()), np.cos(np.deg2rad(2)))


class Randomness(SimpleTestCase):
    """Counter-based numbers: even, and the same whatever the order in which they are asked for."""

    def test_numbers_are_uniform(self) -> None:
        sample = uniform(np.arange(20000), 3, 2)
        for column in range(2):
            self.assertGreater(kstest(sample[:, column], "uniform").pvalue, 1e-3)
        self.assertLess(abs(float(np.corrcoef(sample.T)[0, 1])), 0.03)

    def test_order_does_not_matter(self) -> None:
        ids = np.arange(100)
        np.testing.assert_array_equal(uniform(ids, 5, 3)[::-1], uniform(ids[::-1], 5, 3))
        self.assertFalse(np.array_equal(uniform(ids, 5, 3), uniform(ids, 6, 3)))


LIMITS = Limits(0.02, 2.0, 1, 16)
SMALL = make_layout(np.zeros(3), np.full(3, 12.0), 1.0, [("closed", "closed")] * 3)
TILES = tile_set(SMALL, np.arange(np.prod(SMALL.tiles)))
PHI = TILES.field(0.0)  # the surface is everywhere


def in_one_tile(particles: Particles) -> Arranged:
    """Particles that all lie in the first tile of a small grid."""
    return Arranged(particles, sorted_particles(particles, SMALL)[1], TILES)


class Resampling(SimpleTestCase):
    """Merging and splitting keep volume and momentum."""

    def crowd(self) -> Particles:
        rng = np.random.default_rng(0)
        p = Particles.at(np.array([5.0, 5.0, 5.0]) + rng.uniform(0, 1, (40, 3)), rng.uniform(0.1, 0.2, 40))
        p.velocity[:] = rng.normal(size=(40, 3))
        return p

    def test_crowded_cell_is_thinned(self) -> None:
        before = self.crowd()
        momentum = (before.volume[:, None] * before.velocity.astype(float)).sum(axis=0)
        volume = before.volume.sum(dtype=float)
        after, next_id = resampled(in_one_tile(before), PHI - 2.0, 8, 40, 0)
        self.assertEqual((len(after), next_id), (16, 40))
        self.assertAlmostEqual(after.volume.sum(dtype=float) / volume, 1.0, places=6)
        np.testing.assert_allclose((after.volume[:, None] * after.velocity).sum(axis=0), momentum, rtol=1e-5)

    def test_lonely_deep_particle_is_split_and_new_ids_are_given(self) -> None:
        one = self.crowd().taken(np.array([3]))
        one.volume[:] = 0.25
        after, next_id = resampled(in_one_tile(one), PHI - 2.0, 8, 40, 0)
        self.assertEqual((len(after), next_id, sorted(after.id.tolist())), (2, 41, [3, 40]))
        self.assertAlmostEqual(float(after.volume.sum()), 0.25, places=6)
        few = self.crowd().taken(np.array([3]))
        shallow, _ = resampled(in_one_tile(few), PHI, 8, 40, 0)
        self.assertEqual(len(shallow), 1)

    def test_on_demand_there_are_more_at_the_surface_and_it_stays_where_it_is(self) -> None:
        """Four times as many, along the surface; in depth as many as ever, and volume and momentum are kept."""
        tile = in_one_tile(self.crowd().taken(np.arange(8)))
        level = np.zeros_like(PHI)
        level[:] = np.arange(8, dtype=np.float32)[:, None]  # rises along y, so that the surface is square to it
        p = tile.particles
        p.volume[:] = 0.125
        momentum = (p.volume[:, None] * p.velocity.astype(float)).sum(axis=0)
        heights = p.position[:, 1].copy()
        after, next_id = resampled(tile, level - 4.5, 8, 40, 0, 4)
        after, _ = resampled(in_one_tile(after), level - 4.5, 8, next_id, 1, 4)
        self.assertEqual(len(after), 32)
        self.assertAlmostEqual(float(after.volume.sum(dtype=float)), 1.0, places=6)
        np.testing.assert_allclose((after.volume[:, None] * after.velocity).sum(axis=0), momentum, rtol=1e-5)
        np.testing.assert_allclose(np.sort(after.position[:, 1]), np.sort(np.repeat(heights, 4)), atol=1e-5)
        self.assertGreater(np.ptp(after.position[:, 0]), np.ptp(p.position[:, 0]) * 0.5)
        again, _ = resampled(in_one_tile(after), level - 4.5, 8, next_id + 24, 2, 4)
        self.assertEqual(len(again), 32)
        deep, _ = resampled(in_one_tile(self.crowd().taken(np.arange(8))), level - 12.0, 8, 40, 0, 4)
        self.assertEqual(len(deep), 8)


class Births(SimpleTestCase):
    """What a run can count to."""

    def test_ids_end_with_a_sentence_wherever_particles_are_made(self) -> None:
        last = 2**31
        self.assertEqual(new_ids(last - 2, 2).tolist(), [last - 2, last - 1])
        with self.assertRaisesRegex(OverflowError, "coarser voxel"):
            new_ids(last - 1, 2)
        rng = np.random.default_rng(0)
        one = Particles.at(np.array([5.0, 5.0, 5.0]) + rng.uniform(0, 1, (1, 3)), 0.25)
        with self.assertRaisesRegex(OverflowError, "coarser voxel"):
            resampled(in_one_tile(one), PHI - 2.0, 8, last, 0)

    def test_a_run_that_counts_too_far_fails_with_its_frame_and_keeps_the_rest(self) -> None:
        run = liquid(0.05, (1.0, 1.0, 0.2), [box_fill((0, 0, 0), (0.5, 0.5, 0.2))], band=3.0)
        run.state.next_id = 2**31 - 1
        with self.assertRaisesRegex(OverflowError, "2\\^31"):
            for frame in range(2, 30):
                run.advance_frame(frame)

    def test_more_sources_than_eight_bits_tell_apart(self) -> None:
        rng = np.random.default_rng(0)
        p = Particles.at(np.array([5.0, 5.0, 5.0]) + rng.uniform(0, 1, (9, 3)), 0.1)
        p.source[:] = [299] * 5 + [43] * 4  # 299 is 43 in eight bits
        at_hand = in_one_tile(p)
        like = made_of(p, at_hand.tiling, TILES)
        self.assertEqual(int(like.source[TILES.rows(at_hand.tiling.number)[0]]), 299)
        kept = state_from(state_arrays(LiquidState(p))).particles.source
        np.testing.assert_array_equal(kept, p.source)


class Substeps(SimpleTestCase):
    """The number of substeps follows speed and gravity and lands on the frame."""

    def test_fast_liquid_takes_more_within_the_limits(self) -> None:
        slow = steps_left(1 / 24, 0, 0.0, G, LIMITS)
        fast = steps_left(1 / 24, 0, 500.0, G, LIMITS)
        self.assertLess(slow, fast)
        self.assertEqual(steps_left(1 / 24, 0, 1e5, G, LIMITS), 16)
        self.assertEqual(steps_left(1 / 24, 15, 1e5, G, LIMITS), 2)
        self.assertEqual(steps_left(1 / 24, 0, 0.0, 0.0, replace(LIMITS, least=5)), 6)


class Spikes(SimpleTestCase):
    """A substep that spikes is redone smaller, and said; a frame comes out sane in any case."""

    def falling(self, **more: Any) -> Liquid:
        return liquid(0.05, (1.0, 1.0, 0.5), [box_fill((0.3, 0.4, 0.1), (0.6, 0.7, 0.4))], **more)

    def test_one_spike_leaves_no_trace(self) -> None:
        spoilt, plain = self.falling(), self.falling()
        made, calls = extrapolation.onto_walls, []

        def once(velocity: list[np.ndarray], *rest: Any) -> list[np.ndarray]:
            calls.append(1)
            return [field * np.float32(1e4 if len(calls) == 2 else 1.0) for field in made(velocity, *rest)]

        with mock.patch.object(extrapolation, "onto_walls", once):
            a = spoilt.advance_frame(2)
        b = plain.advance_frame(2)
        assert a and b
        self.assertEqual((a[1].redone, b[1].redone), (1, 0))
        self.assertGreaterEqual(a[1].substeps, b[1].substeps + 2)
        fall = [float(run.state.particles.position[:, 1].mean()) for run in (spoilt, plain)]
        self.assertAlmostEqual(fall[0], fall[1], delta=1e-3)

    def test_velocities_that_are_never_finite_end_the_run(self) -> None:
        run = self.falling()
        with (
            mock.patch.object(extrapolation, "onto_walls", lambda velocity, *rest: [u * np.nan for u in velocity]),
            self.assertRaisesRegex(LiquidFailure, "no longer finite"),
        ):
            run.advance_frame(2)

    def test_one_substep_allowed_at_1000_metres_a_second(self) -> None:
        fast = box_fill((0.3, 0.4, 0.1), (0.6, 0.7, 0.4), velocity=[1000, 0, 0])
        run = liquid(0.05, (1.0, 1.0, 0.5), [fast], substeps_max=1)
        for frame in range(2, 8):
            made = run.advance_frame(frame)
            assert made
            self.assertTrue(np.isfinite(run.state.particles.position).all())
        self.assertEqual(made[1].substeps, 2)
        x = position(run)
        self.assertTrue(((x >= 0) & (x <= [1.0, 1.0, 0.5])).all())

    def test_teleporting_collider_makes_sane_frames(self) -> None:
        keys = [
            {"time": 0.1, "value": [0.2, 0.2, 0.25], "segment": "step"},
            {"time": 0.15, "value": [0.8, 0.2, 0.25]},
        ]
        block = {"kind": "collider", "name": "block", "shape": {"kind": "box", "size": [0.2, 0.2, 0.2]}}
        pool = box_fill((0, 0, 0), (1, 0.4, 0.5))
        run = liquid(0.025, (1.0, 1.0, 0.5), [{**block, "pose": {"translation": {"keys": keys}}}, pool])
        for frame in range(2, 12):
            run.advance_frame(frame)
            self.assertTrue(np.isfinite(run.state.particles.record).all())
        self.assertLess(float(np.abs(run.state.particles.velocity).max()) * 0.025, 12.0)

    def test_no_gravity_and_no_liquid(self) -> None:
        made = liquid(0.05, (1.0, 1.0, 0.5), [], gravity=(0, 0, 0)).advance_frame(2)
        assert made
        self.assertEqual((made[1].substeps, len(made[0].tiles)), (2, 0))

    def test_domain_a_voxel_thick(self) -> None:
        run = liquid(0.05, (1.0, 1.0, 0.05), [box_fill((0.0, 0.0, 0.0), (0.4, 0.6, 0.05))])
        for frame in range(2, 14):
            run.advance_frame(frame)
        x = position(run)
        self.assertTrue(np.isfinite(x).all())
        self.assertLess(float(x[:, 1].mean()), 0.25)


class WallContact(SimpleTestCase):
    """Walls that let go do not disturb water that rests on them."""

    def test_still_water_stays(self) -> None:
        run = liquid(0.02, (0.6, 0.5, 0.08), [box_fill((0, 0, 0), (0.6, 0.3, 0.08))])
        for frame in range(2, 26):
            run.advance_frame(frame)
        self.assertLess(run.state.particles.fastest() * 0.02, 0.01 * np.sqrt(G * 0.3))


class MovingSolids(SimpleTestCase):
    """A collider's velocity on the grid is that of its pose."""

    def test_turning_box_moves_its_faces_with_the_turn(self) -> None:
        turn = {"keys": [{"time": 0, "value": [0, 0, 0], "segment": "linear"}, {"time": 1, "value": [0, 90, 0]}]}
        box = {
            "kind": "collider",
            "name": "blade",
            "shape": {"kind": "box", "size": [0.4, 0.4, 0.4]},
            "pose": {"translation": [0.5, 0.5, 0.5], "rotation": turn},
        }
        run = liquid(0.05, (1, 1, 1), [box])
        solids = run.solid_world.at(run.fields(0.0).tiles, 0.3, 1e-4)
        centre = run.world.layout.to_voxels(np.array([0.5, 0.5, 0.5]))
        arm = np.array([3.0, 0.0, 1.0])
        velocity = solids.motion[0] @ np.append(centre + arm, 1.0)
        np.testing.assert_allclose(velocity, np.cross([0, np.pi / 2, 0], arm), atol=2e-3)


class SqueezedPocket(SimpleTestCase):
    """A full box into which a piston moves: what it presses on is told, its area times its speed, and stays bounded."""

    def test_piston(self) -> None:
        keys = {"keys": [{"time": t, "value": [0.2, 0.49 - 0.1 * t, 0.2]} for t in (0.0, 1.0)]}
        piston = {"kind": "collider", "name": "piston", "shape": {"kind": "box", "size": [0.6, 0.2, 0.6]}}
        elements = [box_fill((0, 0, 0), (0.4, 0.39, 0.4)), {**piston, "pose": {"translation": keys}}]
        run = liquid(0.025, (0.4, 0.4, 0.4), elements)
        poured = float(run.state.particles.volume.sum(dtype=np.float64))
        for frame in range(2, 6):
            made = run.advance_frame(frame)
            assert made
            told = frame_readings(run, *made)
            self.assertEqual(told["closed_pockets"], 1.0)
            self.assertAlmostEqual(told["squeezed"] / (0.4 * 0.4 * 0.1), 1.0, delta=0.02)
            self.assertLess(told["speed_max"], 0.5)
        self.assertAlmostEqual(run.state.particles.volume.sum(dtype=np.float64) / poured, 1.0, places=6)


class Spacing(SimpleTestCase):
    """The spacing step evens out a squeezed layer without touching velocities."""

    def test_squeezed_water_spreads(self) -> None:
        run = liquid(0.05, (1.0, 1.0, 0.5), [box_fill((0, 0, 0), (1, 0.5, 0.5))])
        p = run.state.particles
        p.position[:, 1] = PAD + (p.position[:, 1] - PAD) * np.float32(0.85)
        worst = []
        for _ in range(25):
            p, tiling = sorted_particles(p, run.world.layout)
            tiles = tiling.surroundings(4)
            solids = run.solid_world.at(tiles, 0.0, 0.01)
            share = levelset.density(p, tiling, tiles)
            phi = levelset.level_set(share, solids)
            deep = (phi < -2.0) & (solids.near > 0.99)
            worst.append(float(share[deep].mean()))
            before = p.velocity.copy()
            alone = np.zeros(len(p), bool)
            spacing.spread(Arranged(p, tiling, tiles), assemble(phi, solids), share, phi, solids, alone)
            np.testing.assert_array_equal(p.velocity, before)
        self.assertGreater(worst[0], 1.14)
        self.assertLess(worst[-1], 1.03)


class VolumeSeen(SimpleTestCase):
    """The volume inside the level set is that of the liquid, where it lies thin on a floor too."""

    def test_a_layer_of_two_voxels(self) -> None:
        run = liquid(0.02, (0.6, 0.5, 0.4), [box_fill((0, 0, 0), (0.6, 0.04, 0.4))])
        found = run.advance_frame(2)
        assert found
        told = frame_readings(run, *found)
        self.assertAlmostEqual(told["volume_seen"] / told["volume"], 1.0, delta=0.03)
