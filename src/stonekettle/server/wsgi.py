"""The WSGI application, and its server when run as a module: ``--port N``."""

from __future__ import annotations

import argparse
import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "stonekettle.server.settings")
application = get_wsgi_application()


def main() -> None:
    import waitress

    from stonekettle.priority import step_back

    parser = argparse.ArgumentParser(prog="stonekettle.server.wsgi")
    parser.add_argument("--port", type=int, required=True)
    arguments = parser.parse_args()
    step_back()
    waitress.serve(application, host="127.0.0.1", port=arguments.port, threads=8, ident="stone-kettle")


if __name__ == "__main__":
    main()
