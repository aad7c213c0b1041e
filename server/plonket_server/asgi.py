"""The ASGI application that uvicorn serves."""

import os
import threading

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "plonket_server.settings")
django = get_asgi_application()

from django.conf import settings  # noqa: E402 - there are none before the application is set up

from plonket_server.drawing import drawer  # noqa: E402
from plonket_server.guard import Gate  # noqa: E402

application = Gate(django)

if settings.DRAWS_APART:
    # So that the first picture does not wait for it.
    threading.Thread(target=drawer().start, daemon=True).start()
