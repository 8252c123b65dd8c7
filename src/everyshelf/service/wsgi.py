"""The WSGI application."""

import os

from django.core.wsgi import get_wsgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "everyshelf.service.settings")
application = get_wsgi_application()
