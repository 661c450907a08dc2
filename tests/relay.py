"""Between a client and a server: lets so many bytes of the server's through, and then hangs up; or takes connections and says nothing."""

import contextlib
import socket
import threading
from collections.abc import Iterator


@contextlib.contextmanager
def relay(port: int | None, most: int = 0) -> Iterator[int]:
    """Yield the port of a relay to a port of this machine, which breaks off after `most` bytes; with ``None`` one that never answers."""
    with socket.create_server(("127.0.0.1", 0)) as listening:
        opened: list[socket.socket] = []

        def serve() -> None:
            with contextlib.suppress(OSError):
                while True:
                    client, _ = listening.accept()
                    opened.append(client)
                    if port is not None:
                        server = socket.create_connection(("127.0.0.1", port))
                        opened.append(server)
                        threading.Thread(target=pump, args=(client, server, 1 << 40), daemon=True).start()
                        threading.Thread(target=pump, args=(server, client, most), daemon=True).start()

        threading.Thread(target=serve, daemon=True).start()
        try:
            yield int(listening.getsockname()[1])
        finally:
            for one in opened:
                one.close()


def pump(source: socket.socket, target: socket.socket, left: int) -> None:
    with contextlib.suppress(OSError):
        while left > 0 and (block := source.recv(min(4096, left))):
            target.sendall(block)
            left -= len(block)
    for one in (source, target):
        with contextlib.suppress(OSError):
            one.shutdown(socket.SHUT_RDWR)
