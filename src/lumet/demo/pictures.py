"""Pictures of the service's vessels, drawn by the program: made up like all else."""

import random
from pathlib import Path

FOLDER = "vessels"  # among the uploads
SIZE = (480, 320)
_HULLS = ("#12283a", "#7a2e24", "#0b6b78", "#2b2f36", "#8a6d1c", "#264d3b", "#4a3a66")


def picture_name(code: str) -> str:
    """Return the name of the file with a vessel's picture."""
    return f"{code.lower()}.png"


def draw_vessels(folder: Path, codes: list[str]) -> None:
    """Write a picture of each vessel below `folder`, the same each time."""
    target = folder / FOLDER
    target.mkdir(parents=True, exist_ok=True)
    for number, code in enumerate(codes):
        _draw(target / picture_name(code), number)


def _draw(path: Path, number: int) -> None:
    from PIL import Image, ImageDraw  # slow to import

    chance = random.Random(number)
    width, height = SIZE
    picture = Image.new("RGB", SIZE)
    draw = ImageDraw.Draw(picture)
    horizon = 190 + chance.randint(-12, 12)
    for y in range(horizon):
        part = y / horizon
        shade = (int(40 + 190 * part), int(70 + 150 * part), int(105 + 90 * part))
        draw.line([(0, y), (width, y)], fill=shade)
    for y in range(horizon, height):
        part = (y - horizon) / (height - horizon)
        draw.line(
            [(0, y), (width, y)], fill=(20, int(78 - 30 * part), int(96 - 30 * part))
        )
    tower = chance.choice([56, 400])
    draw.polygon([(tower - 9, horizon), (tower + 9, horizon), (tower + 5, 96), (tower - 5, 96)],
                 fill="#f4efe2")  # fmt: skip
    draw.polygon([(tower, 92), (240, 40), (240, 120)], fill="#f0d48c")
    draw.ellipse([tower - 6, 84, tower + 6, 96], fill="#e3a21a")
    left, deck = 120 + chance.randint(-20, 30), horizon + 22
    length = 200 + 20 * (number % 3)
    hull = [(left, deck), (left + length, deck - 8), (left + length - 22, deck + 40),
            (left + 24, deck + 40)]  # fmt: skip
    draw.polygon(hull, fill=_HULLS[number % len(_HULLS)])
    cabin = left + 40 + 10 * (number % 4)
    draw.rectangle([cabin, deck - 44, cabin + 70, deck - 2], fill="#f7f4ec")
    draw.rectangle([cabin + 24, deck - 72, cabin + 44, deck - 44], fill="#e3a21a")
    for window in range(4):
        x = cabin + 8 + 15 * window
        draw.rectangle([x, deck - 34, x + 8, deck - 24], fill="#35566e")
    mast = left + length - 60
    draw.line([(mast, deck - 6), (mast, deck - 90)], fill="#30343a", width=3)
    for _wave in range(60):
        x, y = chance.randint(0, width), chance.randint(horizon + 8, height)
        draw.line([(x, y), (x + chance.randint(8, 26), y)], fill="#3f8091")
    picture.save(path, "PNG")
