"""Writes the API's OpenAPI schema: ``python -m plonket_server.export_schema FILE``."""

import json
import os
import sys
from pathlib import Path

import django


def main(out: str) -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "plonket_server.settings")
    django.setup()
    from plonket_server.api import api

    schema = api.get_openapi_schema(path_prefix="/api/")
    Path(out).write_text(json.dumps(schema, indent=1, sort_keys=True, default=str) + "\n")


if __name__ == "__main__":
    main(sys.argv[1])
