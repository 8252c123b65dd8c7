"""``everyshelf`` whose long work is shared out from the first byte on, in batches of two or three things."""

from everyshelf.service.base import spreading

spreading._WORTH_BYTES, spreading._BATCH_BYTES, spreading._BATCH_THINGS = 0, 1024, 3

if __name__ == "__main__":
    from everyshelf.cli.main import run

    run()
