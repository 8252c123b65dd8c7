"""``everyshelf`` whose reading processes may work for one second where an answer is awaited, for tests of what takes
longer. Jobs have the time they have otherwise."""

from everyshelf.core.reading.worker import Worker

given = Worker.__init__.__kwdefaults__
assert given is not None
given["deadline_seconds"] = 1.0

if __name__ == "__main__":
    from everyshelf.cli.main import run

    run()
