"""Django's settings, derived from ``config``."""

from pathlib import Path

from everyshelf.service.base.config import get_config

_config = get_config()
BASE_DIR = Path(__file__).parent
SECRET_KEY = _config.secret_key()
DEBUG = False
ALLOWED_HOSTS = list(_config.hosts)
ROOT_URLCONF = "everyshelf.service.urls"
WSGI_APPLICATION = "everyshelf.service.wsgi.application"
USE_TZ = True
TIME_ZONE = "UTC"
USE_I18N = False
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
DATA_UPLOAD_MAX_MEMORY_SIZE = 32 * 1024 * 1024  # JSON bodies; contents are streamed and have a limit of their own
APPEND_SLASH = False

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "rest_framework",
    "drf_spectacular",
    "everyshelf.service.people",
    "everyshelf.service.shelves",
    "everyshelf.service.claims",
    "everyshelf.service.environments",
    "everyshelf.service.jobs",
    "everyshelf.service.drafts",
    "everyshelf.service.log",
    "everyshelf.service.idempotency",
    "everyshelf.service.checks",
    "everyshelf.service.origins",
    "everyshelf.service.find",
    "everyshelf.service.uses",
    "everyshelf.service.findings",
    "everyshelf.service.lineage",
    "everyshelf.service.proposals",
    "everyshelf.service.experiments",
    "everyshelf.service.exchange",
    "everyshelf.service.events",
    "everyshelf.service.tasks",
    "everyshelf.service.news",
    "everyshelf.service.saved_views",
    "everyshelf.service.backups",
    "everyshelf.service.keeping",
    "everyshelf.service.in_place",
    "everyshelf.service.dav",
]
MIDDLEWARE = [
    "everyshelf.service.web.middleware.RequestContext",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "everyshelf.service.web.middleware.SecurityHeaders",
    "everyshelf.service.web.compressing.CompressedAnswers",
    "django.middleware.http.ConditionalGetMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": _config.database,
        "CONN_MAX_AGE": None,
        "OPTIONS": {
            # Without IMMEDIATE a transaction that reads first and writes later fails when another one wrote meanwhile.
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            # Pages that were read are dropped whenever another process has written: more of them would be memory that
            # a large query fills once, in each thread's connection, and nothing reads again.
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON;"
            " PRAGMA cache_size=-2000;",
        },
    }
}
SESSION_COOKIE_NAME = "everyshelf_session"
SESSION_COOKIE_SAMESITE = "Strict"
SESSION_COOKIE_HTTPONLY = True
CSRF_COOKIE_NAME = "everyshelf_csrf"
CSRF_COOKIE_SAMESITE = "Strict"
CSRF_FAILURE_VIEW = "everyshelf.service.problems.csrf_failure"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = _config.https
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if _config.https else 0
X_FRAME_OPTIONS = "DENY"
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
PASSWORD_HASHERS = [
    "everyshelf.service.people.hashing.Argon2",
    "django.contrib.auth.hashers.PBKDF2PasswordHasher",  # of those who have not signed in since it was the first
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "everyshelf.service.people.passwords.EdgedCommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.NumericPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
]

STATIC_URL = "/static/"
_console = BASE_DIR / "web" / "console"
WHITENOISE_ROOT = str(_console) if _console.is_dir() else None
WHITENOISE_MAX_AGE = 60
# The names of built files hold a hash of what is in them.
WHITENOISE_IMMUTABLE_FILE_TEST = r"/assets/.+-[\w-]{8}\.\w+$"
WHITENOISE_INDEX_FILE = False

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "everyshelf.service.people.authentication.BearerAuthentication",
        "rest_framework.authentication.SessionAuthentication",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    "DEFAULT_RENDERER_CLASSES": ["everyshelf.service.http.rendering.JsonRenderer"],
    "DEFAULT_PARSER_CLASSES": ["everyshelf.service.http.parsing.BoundedJsonParser"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "everyshelf.service.problems.handle",
    "UNAUTHENTICATED_USER": "django.contrib.auth.models.AnonymousUser",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Every Shelf",
    "DESCRIPTION": "Shelves of versioned artifacts: commits, comparison by meaning, tags and promotion.",
    "VERSION": "1",
    "OAS_VERSION": "3.1.0",
    "SERVE_INCLUDE_SCHEMA": False,
    "COMPONENT_SPLIT_REQUEST": True,
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "everyshelf.service.http.description.describe",
    ],
    "ENUM_NAME_OVERRIDES": {
        "MergeState": ["open", "finished", "abandoned"],
        "ExperimentState": ["open", "adopted", "abandoned"],
        "RunState": ["done", "failed"],
        "ProposalState": ["open", "merged", "closed"],
        "ProposalStateWanted": ["open", "closed"],
        "MergePreference": ["target", "source"],
        "CapturePreference": ["environment", "shelf"],
        "ArtifactState": ["added", "changed", "removed"],
        "InvitationState": ["open", "accepted", "withdrawn", "expired"],
    },
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "loggers": {
        "django.request": {"handlers": ["console"], "level": "CRITICAL", "propagate": False},
        "django.security": {"handlers": ["console"], "level": "ERROR", "propagate": False},
    },
}
