"""Django settings; what differs between installations comes from the environment.

IVRELL_DATA         Ivrell's data folder
IVRELL_DB_HOST, IVRELL_DB_PORT, IVRELL_DB_NAME, IVRELL_DB_USER, IVRELL_DB_PASSWORD
IVRELL_DB_POOL      most sessions of the database kept open between requests; none unless given
IVRELL_SECRET_KEY   signs sessions
IVRELL_KEY          lets the command line of this machine in; made anew at each start
IVRELL_WEB          folder of the built page
IVRELL_MADE_GB      most made data kept between trials, in GB (20 unless given)
IVRELL_FILES        folders, with colons between, whose csv and parquet files tables may be, besides
                    the folder files in the data folder
IVRELL_LOG          file that the process logs to; standard error unless given
IVRELL_HOSTS        names the server answers to, besides the loopback ones
"""

import os
from pathlib import Path
from typing import get_args

from csp.constants import NONCE, NONE, SELF, STRICT_DYNAMIC, UNSAFE_INLINE

from ivrell.core.base.folders import data_folder, package_folder
from ivrell.core.records.findings import LaneState
from ivrell.core.records.run import RunState
from ivrell.core.records.tries import TryKind
from ivrell.server.bodies import MOST_BYTES
from ivrell.server.jobs.states import JobState

IVRELL_DATA = data_folder()
IVRELL_WEB = Path(os.environ.get("IVRELL_WEB", package_folder() / "web"))
IVRELL_HELP = package_folder() / "help"

OWN_FILES = [
    IVRELL_DATA / "files",
    *(Path(name) for name in os.environ.get("IVRELL_FILES", "").split(os.pathsep) if name),
]
CORES = len(os.sched_getaffinity(0))
MADE_LIMIT_BYTES = round(float(os.environ.get("IVRELL_MADE_GB", "20")) * 10**9)

SECRET_KEY = os.environ.get("IVRELL_SECRET_KEY") or "only-for-commands-that-serve-nobody"
DEBUG = False
COMMAND_KEY = os.environ.get("IVRELL_KEY", "")
BEHIND_PROXY = os.environ.get("IVRELL_PROXY", "") == "1"
ALLOWED_HOSTS = ["127.0.0.1", "localhost", *os.environ.get("IVRELL_HOSTS", "").split()]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "procrastinate.contrib.django",
    "rest_framework",
    "drf_spectacular",
    "csp",
    "ivrell.server.accounts",
    "ivrell.server.jobs",
    "ivrell.server.comparisons",
    "ivrell.server.trials",
    "ivrell.server.data",
    "ivrell.server.machine",
    "ivrell.server.worker",
]

MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "ivrell.server.audit.AuditTrail",
]

TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [Path(__file__).resolve().parent / "templates"],
        "OPTIONS": {"context_processors": ["django.template.context_processors.request"]},
    }
]

ROOT_URLCONF = "ivrell.server.urls"
ASGI_APPLICATION = "ivrell.server.asgi.application"

# A session costs 20 ms to open. Each is looked at before it is used: the database may have been
# started anew meanwhile.
_POOL = int(os.environ.get("IVRELL_DB_POOL", "0"))
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": os.environ.get("IVRELL_DB_NAME", "ivrell"),
        "USER": os.environ.get("IVRELL_DB_USER", "ivrell"),
        "PASSWORD": os.environ.get("IVRELL_DB_PASSWORD", ""),
        "HOST": os.environ.get("IVRELL_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("IVRELL_DB_PORT", "5432"),
        "CONN_HEALTH_CHECKS": True,
        "OPTIONS": {
            "application_name": "ivrell",
            **({"pool": {"min_size": 1, "max_size": _POOL, "timeout": 5}} if _POOL else {}),
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

AUTH_PASSWORD_VALIDATORS = [
    {"NAME": f"django.contrib.auth.password_validation.{name}", "OPTIONS": options}
    for name, options in (
        ("MinimumLengthValidator", {"min_length": 10}),
        ("CommonPasswordValidator", {}),
        ("NumericPasswordValidator", {}),
        ("UserAttributeSimilarityValidator", {"user_attributes": ["username"]}),
    )
]

USE_TZ = True
TIME_ZONE = "UTC"

if BEHIND_PROXY:
    # It says what was asked for, and that it came by https; uvicorn believes it alone.
    USE_X_FORWARDED_HOST = True
    SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
    SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
    CSRF_TRUSTED_ORIGINS = [f"https://{name}" for name in ALLOWED_HOSTS]

SESSION_COOKIE_AGE = 60 * 60 * 24 * 30
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
# Cookies do not tell ports apart: without names of its own, two servers on one machine
# would sign each other's users out.
SESSION_COOKIE_NAME = f"ivrell_session_{os.environ.get('IVRELL_PORT', '')}"
CSRF_COOKIE_NAME = f"ivrell_csrf_{os.environ.get('IVRELL_PORT', '')}"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
# A fresh nonce for every page, nothing from elsewhere.
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "connect-src": [SELF],
        "img-src": [SELF, "data:"],
        "font-src": [SELF],
        "script-src": [NONCE, STRICT_DYNAMIC],
        "style-src": [SELF, NONCE],
        "style-src-attr": [UNSAFE_INLINE],
        "base-uri": [NONE],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
    }
}
DATA_UPLOAD_MAX_MEMORY_SIZE = MOST_BYTES
DATA_UPLOAD_MAX_NUMBER_FILES = 50

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "rest_framework.authentication.SessionAuthentication",
        "ivrell.server.accounts.keys.KeyAuthentication",
        "ivrell.server.accounts.keys.TokenAuthentication",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["ivrell.server.permissions.ByRole"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["ivrell.server.parsing.BoundedJSON"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "ivrell.server.problems.handle",
    # How many proxies before this one are believed when they say whose address asks.
    "NUM_PROXIES": int(BEHIND_PROXY),
}

SPECTACULAR_SETTINGS = {
    "TITLE": "Ivrell",
    "DESCRIPTION": "Comparisons, trials and their findings.",
    "VERSION": "1",
    # Shapes are made by pydantic, whose JSON Schema is that of this version.
    "OAS_VERSION": "3.1.1",
    "SERVE_INCLUDE_SCHEMA": False,
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "ivrell.server.schema.as_generators_take_it",
    ],
    "COMPONENT_SPLIT_REQUEST": True,
    "PATH_CONVERTER_OVERRIDES": {"number": int},
    "ENUM_NAME_OVERRIDES": {
        "JobState": list(get_args(JobState)),
        "RunState": list(get_args(RunState)),
        "LaneState": list(get_args(LaneState)),
        "TryKind": list(get_args(TryKind)),
    },
}

# What a start runs logs to a file of its own, turned over; all else to whoever started it.
_LOG = os.environ.get("IVRELL_LOG")
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"()": "ivrell.core.base.logs.OneLine"}},
    "handlers": {
        "log": {"()": "ivrell.core.base.logs.file_handler", "path": Path(_LOG)}
        if _LOG
        else {"class": "logging.StreamHandler", "formatter": "line"}
    },
    "root": {"handlers": ["log"], "level": "WARNING"},
    "loggers": {"ivrell": {"level": "INFO"}},
}
