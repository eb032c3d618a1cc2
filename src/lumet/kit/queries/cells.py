"""Cells: values as pages show them."""

import re
from html import escape as escape_all
from typing import NamedTuple

MAX_CELL_LENGTH = 90  # characters of a text in a list


_ODD = re.compile(r"[&<>\"']")


def escape(text: str) -> str:
    """Write a text as HTML has it; most hold nothing that is to be escaped."""
    return escape_all(text) if _ODD.search(text) else text


class Cell(NamedTuple):
    """One value on a page: its text, where it leads, and its colour. A template writes
    it as it is: a link, a mark with a word, a text, or a dash for nothing."""

    text: str
    address: str = ""
    colour: str = ""
    said: str = ""  # of one without a value: what is read out
    whole: str = ""  # of a long text: all of it
    picture: str = ""  # the address of a picture, whose alternative is the text

    def __html__(self) -> str:
        text, address, colour, said, whole, picture = self
        if picture:
            source, alt = escape(picture), escape(text)
            image = f'<img class="picture" src="{source}" alt="{alt}" loading="lazy">'
            return f'<a href="{escape(address)}">{image}</a>'
        if address:
            return f'<a href="{escape(address)}">{escape(text)}</a>'
        if colour:
            return f'<span class="state {escape(colour)}">{escape(text)}</span>'
        if whole:
            rest = f"<div>{escape(whole)}</div>"
            return f'<details class="whole"><summary>{escape(text)}</summary>{rest}</details>'
        if text or not said:  # an empty text is not nothing
            return escape(text)
        return f'<span class="none" aria-label="{escape(said)}">–</span>'


def long_cell(text: str) -> Cell:
    if len(text) <= MAX_CELL_LENGTH:
        return Cell(text)
    return Cell(text[:MAX_CELL_LENGTH].rsplit(" ", 1)[0] + " …", whole=text)
