"""Nothing that a document may hold brings a process down: ranges in the model, finite light, bounded work."""

from __future__ import annotations

import threading
import time
import unittest
from typing import Any

import numpy as np

from plonket.base.colour import BRIGHTEST, colours_to_8bit, encode_8bit, keep_finite
from plonket.base.errors import BadInput, FormatError
from plonket.base.fields import Keyed, Wobbling, value_at
from plonket.document.kinds import GENERATORS, LOOKS
from plonket.document.shot import Shot, read_shot
from plonket.formats.cube import read_cube
from plonket.image.picture import Picture, StillSource, halved
from plonket.looks.apply import apply_looks
from plonket.looks.blur import Blur
from plonket.looks.colour import Colour
from plonket.render.frame import render_frame
from plonket.render.no_media import NoMedia

SIZE = (160, 90)


def shot(**more: Any) -> dict[str, Any]:
    footage = {"asset": "a" * 64, "name": "f", "width": SIZE[0], "height": SIZE[1], "rate": "30/1", "frames": 30,
               "in_frame": 0, "out_frame": 29}  # fmt: skip
    return {"name": "Limits", "footage": footage, **more}


def with_colour(**values: Any) -> dict[str, Any]:
    return shot(finish=[{"kind": "colour", "id": "c", "name": "Colour", **values}])


def exposure_of(read: Shot) -> Any:
    look = read.finish[0]
    assert isinstance(look, Colour)
    return look.exposure


class Ranges(unittest.TestCase):
    def test_constants_keys_and_wobbles_out_of_range_are_refused_in_words(self) -> None:
        for value in (
            10.5, {"keys": [{"frame": 0, "value": 0}, {"frame": 9, "value": -11}]}, {"base": 20, "wobble": {"amount": 1}},
            {"base": 0, "wobble": {"amount": 21}},
        ):  # fmt: skip
            with self.assertRaises(BadInput) as caught:
                read_shot(with_colour(exposure=value))
            self.assertIn("Exposure goes from -10 to 10", caught.exception.message)
        self.assertEqual(exposure_of(read_shot(with_colour(exposure=10))), 10)

    def test_what_was_stored_before_opens_with_its_numbers_moved_into_range(self) -> None:
        self.assertEqual(exposure_of(read_shot(with_colour(exposure=1e6), stored=True)), 10)
        keyed = exposure_of(read_shot(with_colour(exposure={"keys": [{"frame": 3, "value": -50}]}), stored=True))
        self.assertEqual(value_at(keyed, 3), -10)
        wobbling = exposure_of(read_shot(with_colour(exposure={"base": 99, "wobble": {"amount": 1e9}}), stored=True))
        self.assertTrue(all(-10 <= value_at(wobbling, f) <= 10 for f in range(200)))

    def test_a_wobble_and_a_swinging_curve_stay_within_the_range(self) -> None:
        number = exposure_of(read_shot(with_colour(exposure={"base": 9, "wobble": {"amount": 8, "every": 2}})))
        assert isinstance(number, Wobbling)
        values = [value_at(number, f) for f in range(300)]
        self.assertEqual(max(values), 10)
        self.assertLess(min(values), 4)
        keys = [{"frame": 0, "value": 0, "ease": "curve", "out_value": 400}, {"frame": 20, "value": 0, "in_value": 400}]
        swung = exposure_of(read_shot(with_colour(exposure={"keys": keys})))
        assert isinstance(swung, Keyed)
        self.assertEqual(max(value_at(swung, f) for f in range(21)), 10)

    def test_ranges_outlast_a_round_trip_and_copies(self) -> None:
        read = read_shot(with_colour(exposure={"base": 9, "wobble": {"amount": 8}}))
        again = read_shot(read.model_copy(deep=True).model_dump(mode="json"))
        self.assertEqual(again, read)
        self.assertEqual(exposure_of(again)._range, (-10, 10))


class FiniteLight(unittest.TestCase):
    def test_light_that_overflowed_is_drawn_and_indexes_nothing(self) -> None:
        looks = [{"kind": "colour", "id": f"c{k}", "name": "c", "contrast": 200, "exposure": 10} for k in range(2)]
        document = read_shot(shot(finish=[*looks, {"kind": "curves", "id": "t", "name": "t"}]))
        sources = NoMedia(SIZE)
        sources.plate = lambda asset, frame: np.full((SIZE[1], SIZE[0], 3), 200, np.uint8)  # type: ignore[method-assign]
        self.assertTrue((render_frame(document, sources, 3) == 255).all())

    def test_what_is_no_number_counts_as_black(self) -> None:
        strange = np.zeros((1, 5, 4), np.float32)
        strange[0, :, 0] = [np.nan, np.inf, -np.inf, 3e38, 0.5]
        self.assertEqual(colours_to_8bit(strange)[0, :, 0].tolist(), [0, 255, 0, 255, 188])
        self.assertEqual(encode_8bit(strange)[0, :, 0].tolist(), [0, 255, 0, 255, 188])
        strange[..., 3] = [np.nan, 2, -1, 0.25, np.inf]
        keep_finite(strange)
        self.assertEqual(strange[0, :, 0].tolist(), [0, BRIGHTEST, 0, BRIGHTEST, 0.5])
        self.assertEqual(strange[0, :, 3].tolist(), [0, 1, 0, 0.25, 1])

    def test_tables_hold_light_and_no_more_rows_than_they_say(self) -> None:
        with self.assertRaises(FormatError) as caught:
            read_cube(["LUT_1D_SIZE 2", "0 0 0", "1e39 1 1"])
        self.assertIn("Line 3", caught.exception.message)
        asked = iter(["LUT_3D_SIZE 2", *(["0 0 0"] * 40_000)])
        with self.assertRaises(FormatError):
            read_cube(asked)
        self.assertGreater(sum(1 for _ in asked), 39_000, "it stops reading where there are too many")
        with self.assertRaises(FormatError):
            read_cube(["LUT_1D_SIZE 2", "0 " * 5_000])


class BoundedWork(unittest.TestCase):
    """Every setting at both of its ends: pictures stay finite, and take a small multiple of what defaults take."""

    def numbers(self, settings: Any) -> dict[str, tuple[float, float]]:
        found = {}
        for name, field in settings.model_fields.items():
            extra = field.json_schema_extra
            hints: Any = extra.get("x-plonket") if isinstance(extra, dict) else None
            if hints and hints["control"] in ("number", "plain"):
                found[name] = (hints["low"], hints["high"])
        return found

    def test_looks_at_the_ends_of_their_ranges(self) -> None:
        rng = np.random.default_rng(3)
        rgba = np.dstack([rng.uniform(0, 4, (270, 480, 3)), np.ones((270, 480))]).astype(np.float32)
        slow = []
        for entry in LOOKS:
            for end in (0, 1):
                values = {name: ends[end] for name, ends in self.numbers(entry.settings).items()}
                look = entry.settings.model_validate({"id": "l", "name": "l", **values, "mix": 100})
                began = time.perf_counter()
                out = apply_looks([look], Picture(rgba=rgba), 5, (480, 270), 1.0, lambda thing: np.eye(3), rgba,
                             lambda at: Picture(rgba=rgba), lambda asset: np.eye(3, dtype=np.float32)).rgba  # fmt: skip
                self.assertTrue(np.isfinite(out).all(), (entry.kind, end))
                slow.append((time.perf_counter() - began, entry.kind))
        # A plain large blur as the measure: machines differ.
        began = time.perf_counter()
        apply_looks([Blur(id="b", name="b", radius=20.0)], Picture(rgba=rgba), 5, (480, 270), 1.0, lambda thing: np.eye(3))
        self.assertLess(max(slow)[0], max(8.0, 40 * (time.perf_counter() - began)), max(slow))

    def test_generated_elements_with_single_settings_at_the_ends(self) -> None:
        for entry in GENERATORS:
            for name, ends in self.numbers(entry.settings).items():
                for value in ends:
                    generator = {"kind": entry.kind, name: value}
                    layer = {"kind": "generated", "id": "g", "name": "g", "x": 80.0, "y": 45.0, "size": 20.0, "generator": generator}
                    picture = render_frame(read_shot(shot(stack=[layer])), NoMedia(SIZE), 12)
                    self.assertEqual(picture.shape, (SIZE[1], SIZE[0], 3), (entry.kind, name, value))


class Levels(unittest.TestCase):
    def test_threads_that_ask_for_one_picture_get_the_same_levels(self) -> None:
        rng = np.random.default_rng(1)
        for _ in range(12):
            source = StillSource(rng.integers(0, 255, (256, 256, 4)).astype(np.uint8))
            expected = halved(halved(source.level(0)[0][1:-1, 1:-1]))
            start = threading.Barrier(6)
            got: list[tuple[Any, int]] = []

            def ask(source: StillSource = source, start: threading.Barrier = start, got: Any = got) -> None:
                start.wait()
                got.append(source.level(2))

            threads = [threading.Thread(target=ask) for _ in range(6)]
            for one in threads:
                one.start()
            for one in threads:
                one.join()
            for picture, level in got:
                self.assertEqual(level, 2)
                np.testing.assert_allclose(picture[1:-1, 1:-1], expected, atol=1e-6)
