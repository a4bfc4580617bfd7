"""The WSGI application, and its server when run as a module: ``--port N [--host ADDRESS] [--proxy ADDRESS]``."""

from __future__ import annotations

import argparse
import os

from django.conf import settings
from django.core.wsgi import get_wsgi_application

ROOM_BESIDE_A_FILE = 10_000_000
TOLD_BY_PROXIES = {"x-forwarded-for", "x-forwarded-proto"}
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "stonekettle.server.settings")
application = get_wsgi_application()


def main() -> None:
    import waitress

    from stonekettle.priority import step_back

    parser = argparse.ArgumentParser(prog="stonekettle.server.wsgi")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--host", default="127.0.0.1")
    parser.add_argument("--proxy", help="the address of a proxy whose word is taken for whom it asks")
    arguments = parser.parse_args()
    step_back()
    trust = {"trusted_proxy": arguments.proxy, "trusted_proxy_count": 1, "trusted_proxy_headers": TOLD_BY_PROXIES}
    waitress.serve(
        application,
        host=arguments.host,
        port=arguments.port,
        threads=8,
        ident="stone-kettle",
        clear_untrusted_proxy_headers=True,
        max_request_body_size=settings.LARGEST_FILE + ROOM_BESIDE_A_FILE,
        **(trust if arguments.proxy else {}),
    )


if __name__ == "__main__":
    main()
