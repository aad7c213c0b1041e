"""Sound as it is delivered: volume with keys, fades, mute; loudness after BS.1770 and brought to a target."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from plonket.base.errors import BadInput
from plonket.document.hashes import picture_hash
from plonket.document.shot import Shot, read_shot
from plonket.media import open_clip
from plonket.media.loudness import loudness_of, peak_of
from plonket.media.sound import Sound, read_sound
from plonket.media.write import VideoWriter
from plonket.render.deliver import deliver
from plonket.render.media_pool import MediaPool
from plonket.render.soundtrack import Recording, RecordingOf, soundtrack
from plonket.render.sources import ShotSources

RATE = 48000


def tone(decibels: float, seconds: float, hertz: float = 997.0, phase: float = 0.0) -> Sound:
    t = np.arange(round(seconds * RATE)) / RATE
    wave = 10 ** (decibels / 20) * np.sin(2 * np.pi * hertz * t + phase)
    return Sound(samples=np.repeat(np.round(wave * 32767).astype(np.int16)[:, None], 2, axis=1))


def of(sound: Sound | None) -> RecordingOf:
    """All assets have this sound."""
    return lambda _asset: None if sound is None else Recording(sound=sound, rate=Fraction(30), frames=90)


def joined(*parts: Sound) -> Sound:
    return Sound(samples=np.concatenate([p.samples for p in parts]))


def shot(frames: int = 90, delivery: dict[str, Any] | None = None, **sound: Any) -> Shot:
    footage = {"asset": "a" * 64, "name": "a", "width": 64, "height": 36, "rate": "30/1", "frames": frames, "in_frame": 0,
               "out_frame": frames - 1}  # fmt: skip
    return read_shot({"name": "s", "footage": footage, "sound": sound, "delivery": delivery or {}})


def swing(sound: Sound | None, first: float, last: float) -> float:
    """The largest swing between two moments in seconds, 1 is full scale."""
    assert sound is not None
    return float(np.abs(sound.samples[round(first * RATE) : round(last * RATE)].astype(int)).max()) / 32767


class Loudness(unittest.TestCase):
    def test_tones_are_as_loud_as_the_standard_says(self) -> None:
        """The first signals of EBU Tech 3341: a stereo tone of -23 dB is -23 LUFS, and of -33 dB is -33."""
        for decibels in (-23.0, -33.0):
            self.assertAlmostEqual(loudness_of(tone(decibels, 5)) or 0, decibels, delta=0.1)
        # Pauses do not count (its third signal, shorter).
        quiet, loud = tone(-36, 3), tone(-23, 12)
        self.assertAlmostEqual(loudness_of(joined(quiet, loud, quiet)) or 0, -23, delta=0.15)
        self.assertAlmostEqual(loudness_of(joined(tone(-72, 4), loud)) or 0, -23, delta=0.15)
        # Low tones count for less, high ones for more.
        self.assertLess(loudness_of(tone(-23, 3, hertz=40)) or 0, -26)
        self.assertGreater(loudness_of(tone(-23, 3, hertz=6000)) or 0, -20.5)
        self.assertIsNone(loudness_of(Sound(samples=np.zeros((RATE, 2), np.int16))))
        self.assertIsNone(loudness_of(tone(-23, 0.2)), "too short for a block")

    def test_a_true_peak_lies_between_the_samples(self) -> None:
        wave = tone(-6.0, 1, hertz=RATE / 4, phase=np.pi / 4)
        self.assertLess(swing(wave, 0, 1), 0.36)
        self.assertAlmostEqual(peak_of(wave), -6.0, delta=0.3)
        self.assertEqual(peak_of(Sound(samples=np.zeros((10, 2), np.int16))), float("-inf"))


class Laid(unittest.TestCase):
    def test_volume_moves_from_key_to_key_and_mute_leaves_nothing(self) -> None:
        keyed = {"keys": [{"frame": 0, "value": 100, "ease": "linear"}, {"frame": 30, "value": 20, "ease": "linear"},
                          {"frame": 60, "value": 20}]}  # fmt: skip
        whole = tone(-6, 3)
        out = soundtrack(shot(volume=keyed), of(whole), 0, 90)
        full = 10 ** (-6 / 20)
        for moment, share in ((0.02, 0.98), (0.5, 0.6), (1.2, 0.2), (2.5, 0.2)):
            self.assertAlmostEqual(swing(out, moment - 0.01, moment + 0.01) / full, share, delta=0.03)
        self.assertEqual(len(out.samples) if out else 0, 3 * RATE)
        self.assertIsNone(soundtrack(shot(muted=True), of(whole), 0, 90))
        self.assertIsNone(soundtrack(shot(delivery={"sound": False}), of(whole), 0, 90))
        self.assertIsNone(soundtrack(shot(), of(None), 0, 90))
        untouched = soundtrack(shot(), of(whole), 10, 20)
        assert untouched is not None
        np.testing.assert_array_equal(untouched.samples, whole.samples[16000:32000])

    def test_it_fades_at_the_ends_of_the_range(self) -> None:
        made = shot(fade_in=15, fade_out=30).model_dump(mode="json")
        made["footage"] |= {"in_frame": 10, "out_frame": 79}
        out = soundtrack(read_shot(made), of(tone(-6, 3)), 10, 80)
        full = 10 ** (-6 / 20)
        length = 70 / 30
        for moment, share in ((0.02, 0.04), (0.25, 0.5), (0.8, 1.0), (length - 0.5, 0.5), (length - 0.03, 0.03)):
            self.assertAlmostEqual(swing(out, moment - 0.01, moment + 0.01) / full, share, delta=0.05)

    def test_it_is_brought_to_a_loudness_as_far_as_its_peaks_allow(self) -> None:
        for level in ("-14", "-16", "-23"):
            out = soundtrack(shot(level=level), of(tone(-30, 3)), 0, 90)
            assert out is not None
            self.assertAlmostEqual(loudness_of(out) or 0, float(level), delta=0.1)
        # A quiet hum with one loud click cannot be made much louder.
        clicks = joined(tone(-50, 1.5), tone(-0.5, 0.002, hertz=3000), tone(-50, 1.498))
        out = soundtrack(shot(level="-14"), of(clicks), 0, 90)
        assert out is not None
        self.assertLess(peak_of(out), -0.8)
        self.assertGreater(peak_of(out), -1.3)
        silent = soundtrack(shot(level="-14"), of(Sound(samples=np.zeros((3 * RATE, 2), np.int16))), 0, 90)
        self.assertEqual(swing(silent, 0, 3), 0)

    def test_shown_at_another_rate_pictures_and_sound_are_slowed_together(self) -> None:
        made = shot().model_dump(mode="json")
        made["footage"]["played_at"] = "12/1"
        slow = read_shot(made)
        clap = joined(tone(-40, 1), tone(-3, 0.05), tone(-40, 1.95))
        out = soundtrack(slow, of(clap), 0, 90)
        assert out is not None
        self.assertEqual(len(out.samples), round(90 / 12 * RATE))
        # The clap of frame 30 is heard as that frame is shown; its tone is lower by as much.
        loud = np.flatnonzero(np.abs(out.samples[:, 0].astype(int)) > 12000) / RATE
        self.assertAlmostEqual(float(loud[0]), 30 / 12, delta=1 / 24)
        self.assertAlmostEqual(float(loud[-1] - loud[0]), 0.05 * 30 / 12, delta=0.02)
        piece = out.samples[round(2.52 * RATE) : round(2.6 * RATE), 0].astype(float)
        crossings = int((np.diff(np.sign(piece)) != 0).sum())
        self.assertAlmostEqual(crossings / 2 / (len(piece) / RATE), 997 * 12 / 30, delta=15)
        with tempfile.TemporaryDirectory() as folder:
            path, target = Path(folder) / "a.mp4", Path(folder) / "out.mp4"
            with VideoWriter(path, (64, 36), Fraction(30), sound=clap) as writer:
                for k in range(90):
                    writer.write(np.full((36, 64, 3), 30 + 2 * k, np.uint8))
            pool = MediaPool(lambda _: path, lambda _: None)  # type: ignore[arg-type, return-value]
            self.addCleanup(pool.close)
            deliver(slow, ShotSources(slow, pool), target, start=0, stop=90, recording=of(clap))
            clip = open_clip(target)
            self.addCleanup(clip.close)
            self.assertEqual((clip.info.frames, clip.info.rate), (90, Fraction(12)))
            self.assertAlmostEqual(float(clip.rgb(60).mean()), 150, delta=4)
            found = read_sound(target)
        assert found is not None
        self.assertAlmostEqual(len(found.samples) / RATE, 7.5, delta=0.05)
        for bad in ("0/1", "5000/1", "30"):
            made["footage"]["played_at"] = bad
            with self.assertRaises(BadInput):
                read_shot(made)

    def test_no_picture_depends_on_it_and_a_delivered_file_has_it(self) -> None:
        self.assertEqual(picture_hash(shot()), picture_hash(shot(volume=10.0, muted=True)))
        with tempfile.TemporaryDirectory() as folder:
            path, out = Path(folder) / "a.mp4", Path(folder) / "out.mp4"
            whole = tone(-24, 3)
            with VideoWriter(path, (64, 36), Fraction(30), sound=whole) as writer:
                for _ in range(90):
                    writer.write(np.full((36, 64, 3), 90, np.uint8))
            pool = MediaPool(lambda _: path, lambda _: None)  # type: ignore[arg-type, return-value]
            self.addCleanup(pool.close)
            made = shot(level="-16", fade_out=45)
            deliver(made, ShotSources(made, pool), out, start=0, stop=90, recording=of(whole))
            found = read_sound(out)
        assert found is not None
        self.assertAlmostEqual(loudness_of(found) or 0, -16, delta=0.4)
        self.assertLess(swing(found, 2.9, 2.98), 0.15 * swing(found, 0.5, 1))
class Under(unittest.TestCase):
    """Other sounds under the shot, and those of clips in its stack."""

    def click(self, at_s: float, seconds: float = 3.0) -> Sound:
        samples = np.zeros((round(seconds * RATE), 2), np.int16)
        samples[round(at_s * RATE) : round(at_s * RATE) + 40] = 16000
        return Sound(samples=samples)

    def loudest(self, sound: Sound | None) -> float:
        assert sound is not None
        return float(np.abs(sound.samples[:, 0].astype(int)).argmax()) / RATE

    def test_it_begins_where_it_is_laid_as_loud_as_it_is_laid(self) -> None:
        laid = {"id": "l", "name": "L", "asset": "b" * 64, "starts": 30, "skipped": 0.5, "volume": 50.0}
        made = read_shot(shot().model_dump() | {"sounds": [laid], "sound": {"muted": True}})
        sound = soundtrack(made, lambda asset: Recording(sound=self.click(1.0)) if asset == "b" * 64 else None, 0, 90)
        # A second in, less what is skipped of it, half a second on.
        self.assertAlmostEqual(self.loudest(sound), 1.5, delta=0.002)
        self.assertAlmostEqual(swing(sound, 1.4, 1.6), 8000 / 32767, delta=0.01)
        self.assertEqual(len(sound.samples) if sound else 0, 3 * RATE)
        later = soundtrack(made, lambda asset: Recording(sound=self.click(1.0)) if asset == "b" * 64 else None, 36, 90)
        self.assertAlmostEqual(self.loudest(later), 1.5 - 36 / 30, delta=0.002)

    def test_both_are_heard_and_one_that_is_over_is_not(self) -> None:
        laid = {"id": "l", "name": "L", "asset": "b" * 64, "lasts": 1.0, "fade_out": 0.5}
        made = read_shot(shot().model_dump() | {"sounds": [laid]})
        sound = soundtrack(made, of(tone(-20, 3)), 0, 90)
        alone = soundtrack(shot(), of(tone(-20, 3)), 0, 90)
        self.assertAlmostEqual(swing(sound, 0.1, 0.4), 2 * swing(alone, 0.1, 0.4), delta=0.01)
        self.assertAlmostEqual(swing(sound, 1.1, 2.9), swing(alone, 1.1, 2.9), delta=0.001)
        self.assertLess(swing(sound, 0.93, 0.99), 1.25 * swing(alone, 0.93, 0.99))

    def test_a_clip_in_the_stack_is_heard_as_it_runs(self) -> None:
        """Its clap is heard when its picture has it: at its own rate, at half its speed, later, cut off, and not while hidden."""
        layer = {"kind": "still", "id": "s", "name": "S", "asset": "b" * 64, "width": 10, "height": 10, "pace": "own",
                 "volume": 100.0}  # fmt: skip

        def clap(**settings: Any) -> Sound | None:
            made = read_shot(shot().model_dump() | {"stack": [layer | settings]})
            recorded = Recording(sound=self.click(0.8, 2.0), rate=Fraction(60), frames=120)
            return soundtrack(made, lambda asset: recorded if asset == "b" * 64 else None, 0, 90)

        self.assertAlmostEqual(self.loudest(clap()), 0.8, delta=0.002)
        self.assertAlmostEqual(self.loudest(clap(starts=30)), 1.8, delta=0.002)
        self.assertAlmostEqual(self.loudest(clap(speed=50.0)), 1.6, delta=0.004)
        self.assertAlmostEqual(self.loudest(clap(speed=-100.0)), 2.0 - 0.8, delta=0.02)
        self.assertEqual(swing(clap(ends=20), 0, 2.9), 0)
        self.assertIsNone(clap(shown=False))
        self.assertIsNone(clap(volume=0.0))


