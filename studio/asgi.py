"""Entry point of the web server."""

import os

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.settings")
_django = get_asgi_application()

from studio.guard import Guard  # noqa: E402  (settings first)

application = Guard(_django)
