"""``everyshelf`` with the server's limits of minutes as seconds, for tests that wait for them."""

from everyshelf.service.web import server

for name in ("IDLE_SECONDS", "HEADER_SECONDS", "BODY_GRACE_SECONDS", "STALLED_SECONDS"):
    setattr(server, name, 2)

if __name__ == "__main__":
    from everyshelf.cli.main import run

    run()
