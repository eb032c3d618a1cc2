"""A Typer program with two commands and nothing in them."""

import typer

app = typer.Typer(rich_markup_mode=None, pretty_exceptions_enable=False)


@app.command()
def survey() -> None:
    """Do one thing."""


@app.command()
def generate() -> None:
    """Do another."""


app()
