"""Other systems are told of releases: signed, tried again, and at least once.

Deliveries follow the open convention of webhooks: the headers `webhook-id`, `webhook-timestamp` and
`webhook-signature`, which is v1 and the HMAC-SHA256 of "id.timestamp.body" in base64 under the secret that was shown
once. An answer of 2xx says that it was heard. What is to be told is written to the database together with the release,
and sent by the worker, so that nothing is lost where either of them ends.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import logging
import secrets
import threading
import urllib.request
from datetime import datetime, timedelta
from typing import Any
from urllib.error import HTTPError, URLError
from urllib.parse import urlsplit

from django.db import close_old_connections
from django.db.models import Q
from django.utils import timezone

from tansy.server.api.errors import Unusable
from tansy.server.portfolios.models import Portfolio
from tansy.server.releases.models import Delivery, Release, Webhook

PUBLISHED, WITHDRAWN, TRIED = "release.published", "release.withdrawn", "test"
WAITS = tuple(timedelta(seconds=s) for s in (10, 60, 600, 3600, 6 * 3600))
"""Between attempts; after one more than these it is given up."""
_PATIENCE = 10  # seconds
_LOOKS_EVERY = 1.0
_PREFIX = "whsec_"
_MOST = 20  # of a portfolio

_log = logging.getLogger(__name__)


def make(portfolio: Portfolio, url: str, user: Any) -> Webhook:
    """An address with a secret of its own. Raises Unusable where it cannot be one."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username or " " in url:
        raise Unusable("An address is like https://orders.example/tansy, without a name and password in it.")
    if portfolio.webhooks.count() >= _MOST:
        raise Unusable(f"A portfolio has at most {_MOST} addresses; take one back first.")
    secret = _PREFIX + base64.b64encode(secrets.token_bytes(32)).decode()
    return Webhook.objects.create(portfolio=portfolio, url=url, secret=secret, made_by=user)


def announce(release: Release, event: str) -> None:
    """Write down for all addresses what happened to a release; in the transaction in which it happens."""
    withdrawal = getattr(release, "withdrawal", None)
    data = {
        "portfolio": release.portfolio.name, "portfolio_id": release.portfolio_id, "release": release.number,
        "id": release.pk, "origin": release.origin, "first": release.first, "last": release.last,
        "series": release.n_series, "nodes": release.n_nodes, "note": release.note, "sha256": release.sha256,
        "published_by": release.published_by.username, "reason": withdrawal.reason if withdrawal else "",
        "rows": f"/api/releases/{release.pk}/rows/", "csv": f"/api/releases/{release.pk}/csv/",
        "parquet": f"/api/releases/{release.pk}/parquet/",
    }  # fmt: skip
    for webhook in release.portfolio.webhooks.all():
        _write(webhook, event, data)


def try_out(webhook: Webhook) -> Delivery:
    """Something to hear that says nothing."""
    return _write(webhook, TRIED, {"portfolio": webhook.portfolio.name, "portfolio_id": webhook.portfolio_id})


def _write(webhook: Webhook, event: str, data: dict[str, Any]) -> Delivery:
    now = timezone.now()
    body = json.dumps({"type": event, "timestamp": now.isoformat(), "data": data}, ensure_ascii=False)
    return Delivery.objects.create(webhook=webhook, event=event, body=body, next_at=now)


def signature(secret: str, number: str, timestamp: str, body: str) -> str:
    """As the header has it."""
    key = base64.b64decode(secret.removeprefix(_PREFIX))
    said = hmac.new(key, f"{number}.{timestamp}.{body}".encode(), hashlib.sha256).digest()
    return f"v1,{base64.b64encode(said).decode()}"


def deliver_due(now: datetime | None = None) -> int:
    """Send what is due; how many were tried. An address that does not hear is let be until the next look, so that it
    does not keep the others waiting for each thing that it is to hear."""
    when = now or timezone.now()
    # what is to wait for longer than anything does was put off by a clock that went ahead
    now_due = Delivery.objects.filter(Q(next_at__lte=when) | Q(next_at__gt=when + max(WAITS)))
    due = list(now_due.select_related("webhook").order_by("next_at", "pk")[:50])
    tried, deaf = 0, set[int]()
    for delivery in due:
        if delivery.webhook_id in deaf:
            continue
        tried += 1
        if not _deliver(delivery, when):
            deaf.add(delivery.webhook_id)
    return tried


def _deliver(delivery: Delivery, now: datetime) -> bool:
    """Whether it was heard."""
    # written before it is sent: where this ends half way, it is tried again, and never without end
    attempts = delivery.attempts + 1
    next_at = now + WAITS[attempts - 1] if attempts <= len(WAITS) else None
    Delivery.objects.filter(pk=delivery.pk).update(attempts=attempts, next_at=next_at, answer="no answer")
    heard, answer = _send(delivery, now)
    done = {"delivered_at": timezone.now(), "next_at": None} if heard else {}
    Delivery.objects.filter(pk=delivery.pk).update(answer=answer[:200], **done)
    return heard


class _NoWayOn(urllib.request.HTTPRedirectHandler):
    """What is signed for one address is not sent to another."""

    def redirect_request(self, *args: Any, **kwargs: Any) -> None:
        return None


_opener = urllib.request.build_opener(_NoWayOn, urllib.request.ProxyHandler({}))


def _send(delivery: Delivery, now: datetime) -> tuple[bool, str]:
    number, timestamp = f"msg_{delivery.pk}", str(int(now.timestamp()))
    request = urllib.request.Request(
        delivery.webhook.url,
        data=delivery.body.encode(),
        headers={
            "Content-Type": "application/json",
            "User-Agent": "Tansy",
            "webhook-id": number,
            "webhook-timestamp": timestamp,
            "webhook-signature": signature(delivery.webhook.secret, number, timestamp, delivery.body),
        },
        method="POST",
    )
    try:
        with _opener.open(request, timeout=_PATIENCE) as answer:
            return True, str(answer.status)
    except HTTPError as error:
        return False, f"{error.code} {error.reason}"
    except (URLError, OSError, ValueError) as error:
        return False, str(getattr(error, "reason", error))


class Sender(threading.Thread):
    """Sends what is due until the process ends, beside whatever else the worker does."""

    def __init__(self) -> None:
        super().__init__(name="webhooks", daemon=True)
        self._over = threading.Event()

    def run(self) -> None:
        while not self._over.wait(_LOOKS_EVERY):
            try:
                deliver_due()
            except Exception:  # whatever it is, the next look may do better
                _log.exception("Deliveries were not looked through")
            finally:
                close_old_connections()
