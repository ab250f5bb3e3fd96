"""A process that holds one part of a kernel: ``python -m`` with the number of the pipe that it answers on."""

from __future__ import annotations

import sys
from multiprocessing.connection import Connection

from ...errors import LampError
from .parts import product


def serve(pipe: int) -> None:
    """Take a part, then answer for products with it until the pipe closes."""
    connection = Connection(pipe)
    try:
        part = connection.recv()
        while True:
            what, vector = connection.recv()
            try:
                connection.send(product(part, what, vector))
            except LampError as error:
                connection.send(error)
    except (EOFError, OSError):
        return


if __name__ == "__main__":
    serve(int(sys.argv[1]))
