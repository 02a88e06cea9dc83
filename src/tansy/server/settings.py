"""Settings. Everything that is kept lies in one data directory, TANSY_DATA."""

from __future__ import annotations

import os
import secrets
from pathlib import Path
from typing import Any

from django.core.exceptions import ImproperlyConfigured

from tansy.server.data_folder import data_folder, database
from tansy.server.watch.log import logging_of

DATA = data_folder()
DATA.mkdir(parents=True, exist_ok=True, mode=0o700)
if DATA.stat().st_uid == os.getuid():
    DATA.chmod(0o700)  # a folder of an earlier version, which others could read


def _secret_key() -> str:
    """Made once per data directory, so that sessions outlive a restart and no key is in the code."""
    path = DATA / "secret-key"
    if not path.exists() or not path.read_text().strip():
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(50))
    return path.read_text().strip()


def _number(name: str, usual: float) -> float:
    given = os.environ.get(name, "")
    try:
        found = float(given) if given else usual
    except ValueError:
        found = -1.0
    if not found >= 0.0:
        raise ImproperlyConfigured(f"{name} is a number, not {given!r}.")
    return found


SECRET_KEY = _secret_key()
DEBUG = False
ALLOWED_HOSTS = os.environ.get("TANSY_HOSTS", "localhost,127.0.0.1,[::1]").split(",")

BACKUPS = int(_number("TANSY_BACKUPS", 0))
"""How many daily backups the worker keeps; 0 for none."""
BACKUP_FOLDER = Path(os.environ.get("TANSY_BACKUP_FOLDER", DATA / "backups"))

STORE_MB = _number("TANSY_STORE_MB", 8192)
"""Size above which results that no study used for longest are swept from the store."""

SCHEDULER = os.environ.get("TANSY_SCHEDULER", "")
"""Of a Dask cluster on whose workers runs fit their methods, such as tcp://plan-1:8786."""

DEMO_MARK = DATA / "demo.json"
"""Written by `tansy demo`; while it is there, the sign-in page shows the demo user's sign-in."""


INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "rest_framework",
    "drf_spectacular",
    "django_tasks",
    "django_tasks_db",
    "tansy.server.accounts",
    "tansy.server.portfolios",
    "tansy.server.studies",
    "tansy.server.releases",
    "tansy.server",
]
MIDDLEWARE = [
    "tansy.server.watch.requests.Watched",
    "django.middleware.security.SecurityMiddleware",
    "tansy.server.headers.SafeHeaders",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "tansy.server.packed.Packed",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "tansy.server.accounts.trail.Trail",
]
ROOT_URLCONF = "tansy.server.urls"
TEMPLATES: list[dict[str, Any]] = []

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": database(DATA),
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 30,
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON;",
        },
        # a thread keeps its connection: opening one takes as long as an answer's queries together
        "CONN_MAX_AGE": None,
        "TEST": {"NAME": DATA / "test.sqlite3"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
_RULES = "django.contrib.auth.password_validation."
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": f"{_RULES}UserAttributeSimilarityValidator"},
    {"NAME": f"{_RULES}MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": f"{_RULES}CommonPasswordValidator"},
    {"NAME": f"{_RULES}NumericPasswordValidator"},
]
PASSWORD_HASHERS = [
    "django.contrib.auth.hashers.Argon2PasswordHasher",
    "django.contrib.auth.hashers.PBKDF2PasswordHasher",  # of earlier versions: hashed anew at the next sign-in
]

SESSION_COOKIE_AGE = round(3600 * _number("TANSY_SESSION_HOURS", 168))
BEHIND_PROXY = os.environ.get("TANSY_TLS", "") == "proxy"
"""One setting for a proxy in front that speaks TLS: cookies travel by TLS alone, and browsers keep to it."""
if BEHIND_PROXY:
    SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
    SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
    SECURE_SSL_REDIRECT = True
    SECURE_HSTS_SECONDS = 365 * 24 * 3600
    CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in ALLOWED_HOSTS if host != "*"]
else:
    SESSION_COOKIE_SECURE = False

OIDC = os.environ.get("TANSY_OIDC", "").rstrip("/")
"""Issuer of an OpenID Connect provider by which people may sign in too, such as https://sign-in.example/realms/plan."""
if OIDC and not OIDC.startswith(("https://", "http://127.0.0.1:", "http://localhost:")):
    raise ImproperlyConfigured(f"TANSY_OIDC is the address of a provider, beginning with https, not {OIDC!r}.")
OIDC_ID = os.environ.get("TANSY_OIDC_ID", "tansy")
OIDC_SECRET = os.environ.get("TANSY_OIDC_SECRET", "")
OIDC_NAME = os.environ.get("TANSY_OIDC_NAME", "your organisation")
OIDC_CLAIM = os.environ.get("TANSY_OIDC_CLAIM", "preferred_username")
"""What the provider tells of a person that is their name here."""
OIDC_NEWCOMERS = os.environ.get("TANSY_OIDC_NEWCOMERS", "") == "1"
"""Whether who was not invited comes in too, into no portfolio."""

TASKS = {"default": {"BACKEND": "django_tasks_db.DatabaseBackend", "QUEUES": ["default"]}}

STATIC_URL = "/static/"
_PAGE = Path(__file__).parent / "page"
STATICFILES_DIRS = [_PAGE] if _PAGE.exists() else []
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False
WHITENOISE_IMMUTABLE_FILE_TEST = r"^.+[.-][0-9a-zA-Z_-]{8}\..+$"
WEB_INDEX = _PAGE / "index.html"

DATA_UPLOAD_MAX_MEMORY_SIZE = 10 * 1024 * 1024
FILE_UPLOAD_TEMP_DIR = None
MAX_UPLOAD_BYTES = 500 * 1024 * 1024

USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "tansy.server.accounts.authentication.TokenAuthentication",
        "rest_framework.authentication.SessionAuthentication",
    ],
    "DEFAULT_PERMISSION_CLASSES": [
        "rest_framework.permissions.IsAuthenticated",
        "tansy.server.accounts.permissions.WithinScope",
        "tansy.server.portfolios.access.InRole",
    ],
    "DEFAULT_PARSER_CLASSES": [
        "tansy.server.api.parsing.StrictJSONParser",
        "rest_framework.parsers.FormParser",
        "rest_framework.parsers.MultiPartParser",
    ],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "tansy.server.api.errors.problem",
    "URL_FORMAT_OVERRIDE": None,  # a column of a file may be named "format"
    "UNAUTHENTICATED_USER": "django.contrib.auth.models.AnonymousUser",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Tansy",
    "DESCRIPTION": "Portfolios, studies and releases of a demand planner's bench.",
    "VERSION": "0.1.0",
    "SERVE_INCLUDE_SCHEMA": False,
    "COMPONENT_SPLIT_REQUEST": True,
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "tansy.server.api.description.with_errors",
    ],
    "ENUM_NAME_OVERRIDES": {
        "MemberRoleEnum": "tansy.server.accounts.acts.Role",
        "LeftOutEnum": "tansy.engine.reading.options.UNFINISHED",
        "ChangeEnum": "tansy.engine.adjust.adjustment.CHANGES",
        "DriverChangeEnum": "tansy.engine.plans.kinds.DRIVER_CHANGES",
    },
}
LOGGING = logging_of(os.environ.get("TANSY_LOGS", ""))
