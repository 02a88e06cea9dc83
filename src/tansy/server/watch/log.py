"""What the server says of itself on stderr: warnings; with TANSY_LOGS=text every request and run too; with
TANSY_LOGS=json the same as one JSON object a line, for machines."""

from __future__ import annotations

import json
import logging
from contextvars import ContextVar
from datetime import UTC, datetime
from typing import Any

from django.core.exceptions import ImproperlyConfigured

request_id: ContextVar[str] = ContextVar("request_id", default="")
"""Of the request that is being answered; the same as in its X-Request-ID."""
run_id: ContextVar[str] = ContextVar("run_id", default="")
"""Of the run that is being carried out."""

_USUAL = set(vars(logging.makeLogRecord({}))) | {"message", "asctime", "taskName"}


class WithIds(logging.Filter):
    """Puts the ids on every record, whoever logs it. Django gives the request itself, after it has been answered, and
    its text has the query of its address, which may be secret: of that its id alone is kept."""

    def filter(self, record: logging.LogRecord) -> bool:
        record.request = request_id.get() or getattr(getattr(record, "request", None), "own_id", "")
        if not hasattr(record, "run"):
            record.run = run_id.get()
        return True


def _extra(record: logging.LogRecord) -> dict[str, Any]:
    """What the caller gave with a record; Django's own objects as texts."""
    found = {key: value for key, value in vars(record).items() if key not in _USUAL}
    return {key: value if isinstance(value, str | int | float | None) else str(value) for key, value in found.items()}


class AsJson(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        told = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "message": record.getMessage(),
            **{key: value for key, value in _extra(record).items() if value not in ("", None)},
        }
        if record.exc_info:
            told["error"] = self.formatException(record.exc_info)
        return json.dumps(told, ensure_ascii=False)


class AsText(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        ids = " ".join(
            f"{name} {value}"
            for name in ("request", "run")
            if isinstance(value := getattr(record, name, ""), str) and value
        )
        return f"{super().format(record)}{f' ({ids})' if ids else ''}"


def logging_of(form: str) -> dict[str, Any]:
    """Django's LOGGING. form: json, text, or empty for warnings alone. Raises ImproperlyConfigured of another one."""
    if form not in ("", "text", "json"):
        raise ImproperlyConfigured(f"TANSY_LOGS is text or json, not {form!r}.")
    level = "INFO" if form else "WARNING"
    shape = "json" if form == "json" else "text"
    text = {"()": AsText, "format": "%(asctime)s %(levelname)s %(name)s: %(message)s"}
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "filters": {"ids": {"()": WithIds}},
        "formatters": {"json": {"()": AsJson}, "text": text if form else {"()": AsText, "format": "%(message)s"}},
        "handlers": {"stderr": {"class": "logging.StreamHandler", "filters": ["ids"], "formatter": shape}},
        "root": {"handlers": ["stderr"], "level": "WARNING"},
        "loggers": {"tansy": {"level": level}},
    }
