"""`python -m fair_ladle`: the command line."""

from pathlib import Path

from fair_ladle.cli import commands


def serve(port: int, home: Path, demo: bool) -> None:
    """The web application, imported only where it is served."""
    from fair_ladle.serving import serve as serve_web

    serve_web(port, home, demo)


# Worker processes import this as well.
if __name__ == "__main__":
    commands.main_program = serve
    commands.main()
