"""The application that uvicorn serves."""

import os

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ivrell.server.settings")
os.environ.setdefault("IVRELL_DB_POOL", "8")
django = get_asgi_application()

from django.conf import settings  # noqa: E402

from ivrell.server.assets import Assets  # noqa: E402
from ivrell.server.bodies import Bodies  # noqa: E402

application = Assets(Bodies(django), settings.IVRELL_WEB)
