"""An outline that follows what it shows, in the browser: bent by one press, put right by hand on a later frame, taken back."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

from playwright.sync_api import expect

from plonket.base.outlines import Outline, control_points
from plonket.masks.follow_outline import points_of
from plonket.media.write import Coding, VideoWriter
from tests.browser.stage import BrowserTest, until
from tests.core.test_follow_outline import SIZE, film, off

FRAMES = 16


def flag_clip(folder: Path) -> Path:
    path = folder / "flag.mp4"
    with VideoWriter(path, SIZE, Fraction(25), coding=Coding(crf=14)) as out:
        for frame in film("astronaut.png", "coffee.png", 6.0)[0][:FRAMES]:
            out.write(frame)
    return path


class Following(BrowserTest):
    def outline(self) -> Outline:
        return Outline.model_validate(self.document()["stack"][0]["masks"][0]["outline"])

    def test_it_bends_with_a_flag_and_is_put_right_by_hand(self) -> None:
        page, true = self.page, film("astronaut.png", "coffee.png", 6.0)[1]
        self.new_shot()
        self.bring_in(flag_clip(self.folder))
        points = [p.model_dump() for p in points_of(true(0))]
        self.put_in({"kind": "fill", "id": "card", "name": "Card", "masks": [
            {"kind": "outline", "id": "m", "name": "Flag", "outline": {"keys": [{"frame": 0, "points": points}]}}]})  # fmt: skip
        page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="Card").first.click()
        page.get_by_role("button", name="Follow what it shows").click()
        until(lambda: len(self.outline().keys) > 1, 90, "the outline to be followed")
        for frame in (5, 10, FRAMES - 1):
            self.assertLess(off(control_points(self.outline(), frame), true(frame)), 1.0, frame)
        expect(page.get_by_text("follows what it shows, in every frame")).to_be_visible()
        followed = len(self.outline().keys) - 1
        expect(page.get_by_role("button", name="Key the shape of Flag here")).to_have_text(f"1 drawn, {followed} followed")
        expect(page.get_by_role("img", name="How Flag was followed")).to_be_visible()

        # A point is dragged on a later frame: that shape is drawn now, and stays when it is followed again.
        self.go_to(10)
        self.caught_up()
        x, y = self.centre(page.locator("[data-outline-point='2']"))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 9, y - 7, steps=4)
        page.mouse.up()
        until(lambda: [k.frame for k in self.outline().keys if not k.followed] == [0, 10], 20, "the drawn shape")
        shape = control_points(self.outline(), 10)
        self.caught_up()
        steps = self.steps()
        page.get_by_role("button", name="Follow again").click()
        until(lambda: self.steps() == steps + 1, 90, "it to be followed again")
        self.assertEqual(control_points(self.outline(), 10).tolist(), shape.tolist())
        moved = control_points(self.outline(), 12)[2, :2] - true(12)[2, :2]
        self.assertGreater(float((moved**2).sum() ** 0.5), 3)

        page.get_by_role("button", name="Forget", exact=True).click()
        until(lambda: [k.frame for k in self.outline().keys] == [0, 10], 20, "what was followed to be forgotten")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: len(self.outline().keys) > 2, 20, "undo")

    def test_a_look_s_own_mask_follows_too(self) -> None:
        page, true = self.page, film("astronaut.png", "coffee.png", 6.0)[1]
        self.new_shot()
        self.bring_in(flag_clip(self.folder))
        points = [p.model_dump() for p in points_of(true(0))]
        mask = {"kind": "outline", "id": "m", "name": "Flag", "outline": {"keys": [{"frame": 0, "points": points}]}}
        look = {"kind": "colour", "id": "dim", "name": "Dim", "exposure": -3, "masks": [mask]}
        self.put_in({"kind": "wash", "id": "wash", "name": "Wash", "looks": [look]})
        page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="Wash").first.click()
        page.get_by_role("button", name="Its masks (1)").click()
        expect(page.get_by_role("button", name="Masks as files")).to_be_visible()
        page.get_by_role("button", name="Follow what it shows").click()

        def outline() -> Outline:
            return Outline.model_validate(self.document()["stack"][0]["looks"][0]["masks"][0]["outline"])

        until(lambda: len(outline().keys) > 1, 90, "the outline to be followed")
        for frame in (5, FRAMES - 1):
            self.assertLess(off(control_points(outline(), frame), true(frame)), 1.0, frame)
        expect(page.get_by_text("follows what it shows, in every frame")).to_be_visible()
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: len(outline().keys) == 1, 20, "undo")


class Together(BrowserTest):
    """Two outlines, drawn on two frames each, moved as one: in the picture, and in time."""

    def keys(self, mask: int) -> dict[int, tuple[float, float]]:
        """Frame -> the first point of a mask's drawn shape there."""
        outline = Outline.model_validate(self.document()["stack"][0]["masks"][mask]["outline"])
        return {k.frame: (k.points[0].x, k.points[0].y) for k in outline.keys}

    def test_shapes_picked_beside_another_go_along(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(flag_clip(self.folder))
        masks = [
            {"kind": "outline", "id": name.lower(), "name": name, "outline": {"keys": [
                {"frame": frame, "points": [{"x": x + frame, "y": y} for x, y in ((at, 60), (at + 60, 60), (at + 30, 120))]}
                for frame in (0, 8)]}}
            for name, at in (("Port", 80), ("Starboard", 200))
        ]  # fmt: skip
        self.put_in({"kind": "fill", "id": "card", "name": "Card", "masks": masks})
        page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="Card").first.click()
        details = page.get_by_role("region", name="Details")
        details.get_by_role("button", name="Port", exact=True).click()
        expect(page.get_by_role("button", name="Grip of the whole shape")).to_be_visible()
        expect(page.get_by_role("button", name="Drawn at frame 8: Port", exact=True)).to_be_visible()
        details.get_by_role("button", name="Starboard").first.click(modifiers=["Shift"])
        self.go_to(8)
        self.caught_up()
        page.get_by_role("button", name="Grip of 2 shapes").focus()
        page.keyboard.press("Shift+ArrowRight")
        page.keyboard.press("ArrowDown")
        until(lambda: self.keys(0)[8] == (98, 61) and self.keys(1)[8] == (218, 61), 20, "both to be moved")
        self.assertEqual((self.keys(0)[0], self.keys(1)[0]), ((80, 60), (200, 60)))
        x, y = self.centre(page.get_by_role("button", name="Grip of 2 shapes"))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 30, y + 20, steps=4)
        page.mouse.up()
        until(lambda: self.keys(0)[8][0] < 98, 20, "both to be dragged")
        a, b = self.keys(0)[8], self.keys(1)[8]
        self.assertAlmostEqual(b[0] - a[0], 120, delta=0.02)
        self.assertEqual(a[1], b[1])

        # In time: dragged in the strip, by an arrow key, and taken away; each is one step back.
        self.caught_up()
        x, y = self.centre(page.get_by_role("button", name="Drawn at frame 8: Port, Starboard"))
        left, _ = self.centre(page.get_by_role("button", name="Drawn at frame 0: Port, Starboard"))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 3 * (x - left) / 8, y, steps=4)
        page.mouse.up()
        until(lambda: list(self.keys(0)) == list(self.keys(1)) == [0, 11], 20, "both to come later")
        self.caught_up()
        page.get_by_role("button", name="Drawn at frame 11: Port, Starboard").press("ArrowLeft")
        until(lambda: list(self.keys(0)) == list(self.keys(1)) == [0, 10], 20, "both to come a frame earlier")
        self.caught_up()
        page.get_by_role("button", name="Drawn at frame 10: Port, Starboard").press("Delete")
        until(lambda: list(self.keys(0)) == list(self.keys(1)) == [0], 20, "both to be drawn once")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: list(self.keys(0)) == list(self.keys(1)) == [0, 10], 20, "undo")
