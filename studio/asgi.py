"""Entry point of the web server."""

import os

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.settings")
application = get_asgi_application()
