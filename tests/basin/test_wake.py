"""Wakes: waves on a window of still water against linear theory, and the stage that makes them."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.scene import Scene, SceneError, parse_scene
from basin.sea.dispersion import Water
from basin.sea.field import SLOPES, STRETCHES, VELOCITIES
from basin.sea.hulls import draught
from basin.sea.wake import BORDER, DYING, WaveField, reach_of
from basin.stages.bodies import bodies
from basin.stages.samples import wakes
from basin.stages.stage import Job, Look, all_keys, stages, usual
from basin.stages.wake_stage import hulls_of
from tests.basin.test_sea_stage import NOWHERE, made, unpacked

G = 9.81


def unrolled(field: WaveField, values: np.ndarray) -> np.ndarray:
    """From the window's first point on."""
    return np.roll(values, tuple(-field.origin), axis=(-2, -1))


def wave(field: WaveField, number: int, along: float = 1.0) -> None:
    """One wave on the window, that goes along x; its edges do not die."""
    x = field.origin[0] + np.arange(field.count)
    k = 2 * np.pi * number / field.size
    omega = float(field.water.omega(np.array([k]))[0])
    phase = k * field.cell * x
    field.height = np.roll(np.repeat(np.cos(phase)[:, None], field.count, 1), tuple(field.origin), (0, 1))
    field.potential = np.roll(np.repeat(np.sin(phase)[:, None], field.count, 1), tuple(field.origin), (0, 1))
    field.potential = (along * G / omega * field.potential).astype(np.float32)
    field.height = field.height.astype(np.float32)


class Undying(WaveField):
    """Without a border, so that what is on it goes round."""

    def _dying(self, axis: int, seconds: float) -> np.ndarray:
        return np.ones(self.count, np.float32)


class Waves(SimpleTestCase):
    """How waves on the window go."""

    def test_they_go_as_fast_as_linear_theory_has_them(self) -> None:
        """Airy 1845: after a period, 2 pi / sqrt(g k tanh kd), a wave is where the one before it was; any step."""
        for depth in (None, 0.4):
            field = Undying(0.25, 64, Water(G, depth))
            k = 2 * np.pi * 4 / field.size
            shallow = 1.0 if depth is None else np.tanh(k * depth)
            period = 2 * np.pi / np.sqrt(G * k * shallow)
            wave(field, 4)
            before = field.height.copy()
            for _ in range(3):
                field.step(period / 3)
            self.assertLess(float(np.abs(field.height - before).max()), 1e-4)
            field.step(period / 4)  # a quarter on: a quarter of its length
            moved = np.roll(before, 4, axis=0)
            self.assertLess(float(np.abs(field.height - moved).max()), 1e-4)

    def test_energy_and_volume_stay(self) -> None:
        """g h^2 + k tanh(kd) f^2 (Lamb 1932, section 230), summed over wave numbers."""
        field = Undying(0.5, 64, Water(G))
        x = (np.arange(64) - 32) * 0.5
        field.height = (np.exp(-(x[:, None] ** 2 + x[None, :] ** 2) / 4)).astype(np.float32)
        volume = float(field.height.sum())

        def energy() -> float:
            h, f = (np.abs(np.fft.fft2(one)) ** 2 for one in (field.height, field.potential))
            k = np.hypot(*np.meshgrid(*[np.fft.fftfreq(64, 0.5) * 2 * np.pi] * 2, indexing="ij"))
            return float((G * h + k * f).sum())

        begin = energy()
        for _ in range(40):
            field.step(0.07)
        self.assertAlmostEqual(energy() / begin, 1.0, places=4)
        self.assertAlmostEqual(float(field.height.sum()) / volume, 1.0, places=4)

    def test_waves_fade_and_eddies_take_short_ones(self) -> None:
        """By e^(-t / T) and e^(-2 nu k^2 t) (Lamb 1932, section 348)."""
        for fades, eddies, number in ((3.0, 0.0, 4), (np.inf, 0.01, 8)):
            field = Undying(0.25, 64, Water(G), fades, eddies)
            wave(field, number)
            k = 2 * np.pi * number / field.size
            for _ in range(10):
                field.step(0.1)
            left = float(np.sqrt(2 * (field.height.astype(float) ** 2).mean()))
            self.assertAlmostEqual(left, np.exp(-1.0 / fades - 2 * eddies * k**2), places=3)

    def test_edges_take_waves_as_relaxation_zones_do(self) -> None:
        """Case E16 (Israeli & Orszag 1981; both heights and speeds relaxed): exp(-2 g L / 3 c) each way, within 0.03.

        In shallow water, where all waves go at c = sqrt(g d); a packet goes through both edges of the window.
        """
        depth, count = 0.05, 256
        field = WaveField(0.25, count, Water(G, depth))
        speed = np.sqrt(G * depth)
        edge = BORDER * field.size
        period = float(2 * np.pi / field.water.omega(np.array([2 * np.pi / edge]))[0])
        x = (np.arange(count) - count // 2) * field.cell
        packet = np.exp(-((x / 3.0) ** 2)) * np.cos(2 * np.pi * x / 4.0)
        spectrum = np.fft.fft(packet)
        k = np.fft.fftfreq(count, field.cell) * 2 * np.pi
        omega = np.sqrt(G * np.abs(k) * np.tanh(np.abs(k) * depth))
        back = np.divide(G, omega, out=np.zeros_like(k), where=omega > 0)
        goes = np.real(np.fft.ifft(-1j * np.sign(k) * back * spectrum))
        for name, value in (("height", packet), ("potential", goes)):
            rows = np.repeat(value[:, None], count, 1).astype(np.float32)
            setattr(field, name, np.roll(rows, tuple(field.origin), (0, 1)))
        middle = count // 2
        seconds = field.size / speed
        for _ in range(400):
            field.step(seconds / 400)
        left = float(np.abs(unrolled(field, field.height)[:, middle]).max())
        self.assertAlmostEqual(left, np.exp(-2 * DYING / period * edge / (3 * speed)), delta=0.03)
        self.assertLess(left, 0.05)

    def test_shores_send_waves_back(self) -> None:
        """A wall doubles what comes (mirror images; Lamb 1932): crests come back as crests, nine tenths of them."""
        count = 256
        field = WaveField(0.25, count, Water(G))
        x = (np.arange(count) - count // 2) * field.cell
        solid = np.repeat((x > 12.0)[:, None], count, 1)
        field.set_shores(solid)
        packet = np.exp(-((x / 2.5) ** 2)) * np.cos(2 * np.pi * x / 3.0)
        k = np.fft.fftfreq(count, field.cell) * 2 * np.pi
        omega = np.sqrt(G * np.abs(k))
        back = np.divide(G, omega, out=np.zeros_like(k), where=omega > 0)
        goes = np.real(np.fft.ifft(-1j * np.sign(k) * back * np.fft.fft(packet)))
        for name, value in (("height", packet), ("potential", goes)):
            rows = np.repeat(value[:, None], count, 1).astype(np.float32)
            setattr(field, name, np.roll(rows, tuple(field.origin), (0, 1)))

        def energy(where: np.ndarray) -> float:
            return float((unrolled(field, field.height)[where, count // 2].astype(float) ** 2).sum())

        begin, largest = energy(x < 12.0), 0.0
        group = 0.5 * np.sqrt(G * 3.0 / (2 * np.pi))
        for _ in range(round(2 * 12.0 / group / 0.05)):
            field.step(0.05)
            largest = max(largest, float(np.abs(unrolled(field, field.height)[x < 12.0, count // 2]).max()))
        self.assertGreater(energy(x < 12.0) / begin, 0.8)
        self.assertGreater(largest, 1.2)  # the packet has spread, and stands twice as high at the wall

    def test_fields_are_those_of_one_wave(self) -> None:
        """By hand: h = cos kx, D = -sin kx, slope -k sin kx, squeezed 1 - k cos kx, u = w cos kx, up w sin kx."""
        field = Undying(0.25, 64, Water(G))
        wave(field, 4)
        k = 2 * np.pi * 4 / field.size
        omega = np.sqrt(G * k)
        x = (field.origin[0] + np.arange(64)) * 0.25
        found = unrolled(field, field.fields())[:, :, 5]
        cos, sin = np.cos(k * x), np.sin(k * x)
        np.testing.assert_allclose(found[1], -sin, atol=1e-4)
        np.testing.assert_allclose(found[SLOPES][0], -k * sin, atol=1e-3)
        np.testing.assert_allclose(found[STRETCHES][0], -k * cos, atol=1e-3)
        np.testing.assert_allclose(found[VELOCITIES][0], omega * cos, atol=1e-3)
        np.testing.assert_allclose(found[VELOCITIES][1], omega * sin, atol=1e-3)


class Kelvin(SimpleTestCase):
    """What a body that goes leaves behind."""

    def test_wake(self) -> None:
        """Kelvin 1887: waves of 2 pi V^2 / g follow (3 %), arms lie at 19.47 degrees (1.5, by their crests)."""
        speed, cell, count = 5.0, 0.5, 512
        field = WaveField(cell, count, Water(G))
        off = np.arange(-40, 41) * cell
        deep = (0.3 * np.exp(-(off[:, None] ** 2 + off[None, :] ** 2) / (2 * 2.5**2))).astype(np.float32)
        for step in range(450):
            field.follow(np.array([step * cell - 90.0, 0.0]))
            field.step(cell / speed, field.press([(deep, np.array([step - 40, -40]))]))
        height = unrolled(field, field.height)
        x, z = ((field.origin[d] + np.arange(count)) * cell - (449 * cell if d == 0 else 0.0) for d in range(2))
        row = height[:, count // 2].astype(float)
        behind = (x < -24) & (x > -100)
        own = np.abs(np.fft.rfft(row[behind] * np.hanning(behind.sum()), 16 * count))
        length = 1.0 / np.fft.rfftfreq(16 * count, cell)[1:][np.argmax(own[1:])]
        self.assertAlmostEqual(length / (2 * np.pi * speed**2 / G), 1.0, delta=0.03)
        away = np.arange(40, 140, 4)
        at = [int(np.argmin(np.abs(x + d))) for d in away]
        crest = [abs(z[np.argmax(np.abs(height[i - 8 : i + 8]).max(axis=0))]) for i in at]
        slope = np.polyfit(away, crest, 1)[0]
        self.assertAlmostEqual(float(np.degrees(np.arctan(slope))), 19.47, delta=1.5)

    def test_told_before(self) -> None:
        """Kelvin 1887; Havelock 1908: arcsin(c / V) beyond the speed of the longest waves."""
        deep = reach_of(5.0, Water(G), 10.0, np.inf)
        self.assertAlmostEqual(deep.angle, 19.471, places=2)
        self.assertAlmostEqual(deep.wavelength / (2 * np.pi * 25 / G), 1.0, delta=2e-3)
        self.assertAlmostEqual(deep.length / (2.5 * 10 * np.log(10)), 1.0, delta=2e-3)
        self.assertAlmostEqual(reach_of(5.0, Water(G), 10.0, 20.0).length, 10.0, delta=0.02)
        fast = reach_of(8.0, Water(G, 2.0), 10.0, np.inf)
        self.assertAlmostEqual(fast.angle, np.degrees(np.arcsin(np.sqrt(G * 2.0) / 8.0)), delta=0.1)
        self.assertEqual(fast.wavelength, 0.0)
        self.assertEqual(reach_of(0.0, Water(G), 10.0, 1.0).length, 0.0)


class Hulls(SimpleTestCase):
    """What bodies are in the place of."""

    def test_draught_is_the_volume_in_the_water(self) -> None:
        """Archimedes, by hand: a box, a ball of 4/3 pi r^3, half of it, what lies deeper than is felt; either way."""
        box = trimesh.creation.box([4.0, 2.0, 3.0])
        ball = trimesh.creation.icosphere(5, 1.0)
        sphere = float(ball.volume)
        for mesh, shift, reach, volume in (
            (box, 0.4, 5.0, 4 * 3 * 0.6),
            (ball, 0.0, 5.0, sphere / 2),
            (ball, -3.0, 5.0, sphere),
            (box, -2.0, 1.5, 4 * 3 * 0.5),
            (box, -9.0, 5.0, 0.0),
        ):
            for faces in (mesh.faces, mesh.faces[:, ::-1]):
                place = mesh.vertices + np.array([0.13, shift, -0.07])
                deep, _ = draught(place, faces, 0.0, reach, 0.1)
                self.assertAlmostEqual(float(deep.sum()) * 0.01, volume, delta=0.02 * volume + 1e-6)
        self.assertEqual(draught(box.vertices + np.array([0, 5, 0]), box.faces, 0.0, 5.0, 0.1)[0].size, 0)

    def test_a_body_at_rest_lies_in_its_dent(self) -> None:
        field = Undying(0.25, 64, Water(G))
        deep = np.full((8, 8), 0.3, np.float32)
        pressed = field.press([(deep, np.array([-4, -4]))])
        field.rest(pressed)
        for _ in range(20):
            field.step(0.05, pressed)
        np.testing.assert_allclose(field.height, -pressed, atol=1e-5)

    def test_the_window_goes_along_without_changing_waves(self) -> None:
        """What happens amid it is the same where it stays and where it follows."""
        deep = np.full((6, 6), 0.2, np.float32)
        seen = []
        for follows in (False, True):
            field = WaveField(0.25, 256, Water(G))
            for step in range(60):
                if follows:
                    field.follow(np.array([0.25 * step, 0.0]))
                field.step(0.05, field.press([(deep, np.array([step, -3]))]))
            rows, columns = np.arange(20, 70) % 256, np.arange(-25, 25) % 256
            seen.append(field.height[np.ix_(rows, columns)])
        self.assertLess(float(np.abs(seen[0] - seen[1]).max()), 0.01 * float(np.abs(seen[0]).max()))


def wake_scene(frames: int = 3, wake: dict[str, Any] | None = None, **more: Any) -> Scene:
    """The small scene that kernels are made by."""
    (scene,) = wakes()
    given = {**scene, "time": {"last": frames}, "wake": {**scene["wake"], **(wake or {})}, **more}
    return parse_scene(given)


class Stages(SimpleTestCase):
    """Runs, keys, restarts, what is seen."""

    def test_a_scene_that_asks_for_wakes_makes_them(self) -> None:
        scene = wake_scene()
        self.assertEqual([one.name for one in usual(scene)], ["sea", "sea_foam", "wake"])
        self.assertEqual([hull.element.name for hull in hulls_of(scene, NOWHERE)], ["ball"])
        self.assertNotIn("wake", [one.name for one in usual(wake_scene(wake={"made": False}))])
        with self.assertRaisesRegex(SceneError, "no power of two; take 64"):
            wake_scene(wake={"resolution": 70})

    def test_frames_and_what_is_seen(self) -> None:
        """The ball is half in the water; what the graphics card is given is the frame; foam lies behind the ball."""
        with tempfile.TemporaryDirectory() as folder:
            cache = made(wake_scene(wake={"run_up": 48}), folder)
            frame, read = cache.stage("wake").frame(3), cache.stage("wake").records()[3].readings
            self.assertAlmostEqual(read["displaced"], 2 / 3 * np.pi, delta=0.1)
            self.assertAlmostEqual(read["speed"], 2.0, places=3)
            self.assertGreater(read["crest"], 0.01)
            self.assertLess(read["crest"], 2 * 2.0**2 / (2 * G))  # what stands before it is V^2 / 2g high
            for stage in ("wake", "sea_foam"):
                look = Look("", 100, 0.0, bodies(wake_scene()), frozenset({"wake"}))
                seen = unpacked(stages()[stage].pack(cache.stage(stage), 3, look))
                count = seen["wake"]["count"]
                place = seen["shift_wake"].reshape(count, count, 3) / 65535 * seen["wake"]["span"] + seen["wake"]["low"]
                np.testing.assert_allclose(place[..., 1], frame["shift"][0], atol=1e-4)
                np.testing.assert_allclose(place[..., 0], frame["shift"][1], atol=1e-4)
                self.assertIn("foam", seen["choices"])
                self.assertEqual(seen["wake"]["from"], (frame["origin"] * frame["cell"]).tolist())
            look = Look("", 100, 0.0, bodies(wake_scene()))
            self.assertNotIn("wake", unpacked(stages()["sea_foam"].pack(cache.stage("sea_foam"), 3, look)))
            self.assertGreater(float(frame["foam"].max()), 0.1)

    def test_the_same_bits_again_after_a_stop(self) -> None:
        scene = wake_scene(8)
        with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as two:
            whole = made(scene, one, threads=2)
            made(scene, two, threads=1, frames=(1, 5))
            parts = made(scene, two, threads=1)
            for frame in (1, 6, 8):
                first, second = (cache.stage("wake").frame(frame) for cache in (whole, parts))
                for array in first:
                    np.testing.assert_array_equal(first[array], second[array], f"{frame} {array}")

    def test_shores_are_met_where_the_window_stays(self) -> None:
        """About the origin, where it lies from the beginning."""
        with tempfile.TemporaryDirectory() as folder:
            high = []
            for post in ("sends waves back", "nothing"):
                document = wake_scene(2, {"stays": True, "run_up": 48}).model_dump(mode="json")
                document["elements"][1]["at_sea"] = post
                cache = made(parse_scene(document), f"{folder}/{post}", stages=("sea", "wake"))
                high.append(cache.stage("wake").frame(2)["shift"][0])
            self.assertGreater(float(np.abs(high[0] - high[1]).max()), 1e-3)

    def test_keys(self) -> None:
        """Wind's waves do not matter, motion does from where it is; what neither moves nor stands in water, neither."""

        def keys(scene: Scene) -> dict[int, str]:
            return all_keys(Job(scene, NOWHERE, Cache(Path("/nowhere")), "final"))["wake"]

        plain = keys(wake_scene(6))
        document = wake_scene(6).model_dump(mode="json")
        self.assertEqual(plain, keys(parse_scene({**document, "sea": {**document["sea"], "seed": 9}})))
        keyed = document["elements"][0]["pose"]["translation"]["keys"]
        turned = [keyed[0], {**keyed[0], "time": 0.1, "value": [0.2, 0, 0]}, {**keyed[1], "value": [2.0, 0.0, 1.0]}]
        document["elements"][0]["pose"]["translation"]["keys"] = turned
        other = keys(parse_scene(document))
        self.assertEqual([n for n in plain if plain[n] == other[n]][:1], [1])
        self.assertNotEqual(plain[6], other[6])
        document["elements"][1]["at_sea"] = "nothing"
        self.assertNotEqual(other[1], keys(parse_scene(document))[1])

    def test_a_slow_hull_makes_small_waves(self) -> None:
        """No crest before a body is higher than V^2 / 2g (Bernoulli), whatever its draught."""
        crests = []
        for speed in (0.5, 1.0):
            document = wake_scene(2, {"run_up": 48}).model_dump(mode="json")
            document["elements"] = document["elements"][:1]
            document["elements"][0]["pose"]["translation"]["keys"][1]["value"] = [speed, 0.0, 0.0]
            with tempfile.TemporaryDirectory() as folder:
                cache = made(parse_scene(document), folder, stages=("sea", "wake"))
                crests.append(cache.stage("wake").records()[2].readings["crest"])
        self.assertLess(crests[0], 2 * 0.5**2 / (2 * G))
        self.assertGreater(crests[1], crests[0])
