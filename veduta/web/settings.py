"""Settings. Every one that an installation may want to change comes from the environment, with a safe default."""

import os
from pathlib import Path
from typing import Any

from csp.constants import NONCE, SELF
from django.core.exceptions import ImproperlyConfigured

from veduta.web import installation
from veduta.web.installation import BASE_DIR, DATA_DIR, TESTING


def _read_flag(name: str, default: bool = False) -> bool:
    return os.environ.get(name, "1" if default else "0").lower() in ("1", "true", "yes", "on")


def _read_number(name: str, default: int) -> int:
    try:
        return int(os.environ.get(name, default))
    except ValueError:
        raise ImproperlyConfigured(f"{name} must be a whole number.") from None


UPLOAD_DIR = DATA_DIR / "uploads"
SECRET_KEY = installation.load_secret_key()
DEBUG = _read_flag("VEDUTA_DEBUG")
ALLOWED_HOSTS = os.environ.get("VEDUTA_HOSTS", "localhost,127.0.0.1,[::1]").split(",")
CSRF_TRUSTED_ORIGINS = list(filter(None, os.environ.get("VEDUTA_ORIGINS", "").split(",")))
UPLOAD_LIMIT = _read_number("VEDUTA_UPLOAD_MB", 500) * 1024 * 1024
# Processes that answer requests, and how many each works on at once. What they keep in memory is for all together.
PROCESSES = max(1, _read_number("VEDUTA_PROCESSES", min(4, os.cpu_count() or 1)))
THREADS = max(1, _read_number("VEDUTA_THREADS", 4))
MEMORY_FOR_ANSWERS = _read_number("VEDUTA_ANSWERS_MB", 128) * 1024 * 1024 // PROCESSES
MEMORY_FOR_COLUMNS = _read_number("VEDUTA_MEMORY_MB", 2_048) * 1024 * 1024 // PROCESSES
VERSIONS_KEPT = _read_number("VEDUTA_VERSIONS_KEPT", 10)
# Hosts ("name" or "name:port") that feeds and databases may be read from although they are not public.
ALLOWED_FEEDS = list(filter(None, os.environ.get("VEDUTA_ALLOWED_FEEDS", "").lower().split(",")))
DATABASE_FOLDERS = [
    DATA_DIR / "demo",
    *map(Path, filter(None, os.environ.get("VEDUTA_DATABASE_FOLDERS", "").split(":"))),
]
# Processes that work in the background beside the server; tests have none, and what they ask for is done at once.
WORKERS = 0 if TESTING else max(1, _read_number("VEDUTA_WORKERS", 2))
MOST_ROWS = _read_number("VEDUTA_MOST_ROWS", 50_000_000)
# How long fetching all rows of a feed or a database may take.
FETCH_SECONDS = _read_number("VEDUTA_FETCH_MINUTES", 60) * 60

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "django.contrib.staticfiles",
    "django.contrib.humanize",
    "axes",
    "csp",
    "django_cotton",
    "guardian",
    "veduta.web.common",
    "veduta.web.home",
    "veduta.web.accounts",
    "veduta.web.jobs",
    "veduta.web.datasets",
    "veduta.web.refreshing",
    "veduta.web.palettes",
    "veduta.web.images",
    "veduta.web.collaboration",
    "veduta.web.charts",
    "veduta.web.chart_templates",
    "veduta.web.dashboards",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "veduta.web.common.middleware.NotKeptMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "veduta.web.common.middleware.ProblemsMiddleware",
    "veduta.web.palettes.middleware.CounterpartsMiddleware",
    "axes.middleware.AxesMiddleware",
]
ROOT_URLCONF = "veduta.web.urls"
ASGI_APPLICATION = "veduta.web.asgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [BASE_DIR / "veduta/web/templates"],
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
                "csp.context_processors.nonce",
                "veduta.web.home.context.make_shared_context",
            ],
            "builtins": ["veduta.web.common.templatetags.veduta"],
        },
    }
]

TEST_RUNNER = "tests.runner.Runner"

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA_DIR / "veduta.sqlite3",
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 30,
            # Foreign keys are switched on by Django itself.
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA mmap_size=268435456;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

AUTH_USER_MODEL = "accounts.User"
AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "django.contrib.auth.backends.ModelBackend",
    "guardian.backends.ObjectPermissionBackend",
]
ANONYMOUS_USER_NAME = None
GUARDIAN_MONKEY_PATCH_USER = False
PASSWORD_HASHERS = (
    ["django.contrib.auth.hashers.MD5PasswordHasher"]
    if TESTING
    else ["django.contrib.auth.hashers.Argon2PasswordHasher"]
)
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
LOGIN_URL = "sign-in"
LOGIN_REDIRECT_URL = "home"
LOGOUT_REDIRECT_URL = "sign-in"
AXES_FAILURE_LIMIT = _read_number("VEDUTA_SIGN_IN_TRIES", 8)
AXES_COOLOFF_TIME = 0.25
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_HANDLER = "veduta.web.accounts.throttle.Throttle"
AXES_ENABLE_ACCESS_FAILURE_LOG = True
AXES_RESET_COOL_OFF_ON_FAILURE_DURING_LOCKOUT = False
AXES_LOCKOUT_TEMPLATE = "accounts/locked.html"
AXES_RESET_ON_SUCCESS = True
AXES_VERBOSE = False

HTTPS = _read_flag("VEDUTA_HTTPS")
SESSION_ENGINE = "veduta.web.accounts.sessions"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = HTTPS
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Lax"
SECURE_SSL_REDIRECT = HTTPS and _read_flag("VEDUTA_REDIRECT_TO_HTTPS", True)
SECURE_HSTS_SECONDS = 31_536_000 if HTTPS else 0
# The proxies in front, which are believed when they say who asks, and over what.
PROXIES = list(filter(None, os.environ.get("VEDUTA_PROXIES", "").split(",")))
if _read_flag("VEDUTA_BEHIND_PROXY") and not PROXIES:
    PROXIES = ["127.0.0.1", "::1"]
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [SELF],
        "script-src": [SELF],
        "style-src": [SELF, NONCE],
        "img-src": [SELF, "data:"],
        "object-src": ["'none'"],
        "base-uri": ["'none'"],
        "form-action": [SELF],
        "frame-ancestors": ["'none'"],
    }
}
DATA_UPLOAD_MAX_MEMORY_SIZE = 5 * 1024 * 1024

LANGUAGE_CODE = "en-gb"
USE_I18N = False
USE_TZ = True
TIME_ZONE = os.environ.get("VEDUTA_TIME_ZONE", "UTC")
STATIC_URL = "static/"
STATIC_ROOT = DATA_DIR / "static"
STATICFILES_DIRS = [BASE_DIR / "veduta/web/static"]
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {
        "BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"
        if DEBUG or TESTING
        else "whitenoise.storage.CompressedManifestStaticFilesStorage"
    },
}
# Django's hash of a file's content, or that of the front-end build in the names of scripts' parts.
WHITENOISE_IMMUTABLE_FILE_TEST = r"^.+(\.[0-9a-f]{12}|/parts/[^/]+-[0-9A-Z]{8})\..+$"
WHITENOISE_USE_FINDERS = DEBUG or TESTING

LOG_LEVEL = os.environ.get("VEDUTA_LOG", "")
LOGGING: dict[str, Any] = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"format": "{asctime} {levelname} {name}: {message}", "style": "{"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "line"}},
    "root": {"handlers": ["console"], "level": LOG_LEVEL or ("ERROR" if TESTING else "WARNING")},
    # Loggers with a level of their own do not ask the root's.
    "loggers": {
        "django": {"level": LOG_LEVEL or "WARNING"},
        "veduta": {"level": LOG_LEVEL or ("CRITICAL" if TESTING else "INFO")},
    },
}
if TESTING:
    LOGGING["loggers"]["django.request"] = LOGGING["loggers"]["django.security"] = {"level": "CRITICAL"}
    LOGGING["loggers"]["axes"] = {"level": "CRITICAL"}
