"""How often somebody may try to sign in.

Who has signed in from a browser before keeps a mark there (a device cookie). Attempts with the mark count by
themselves; attempts without it count by name, and by the address that they come from. So strangers who guess shut the
door to strangers alone, and not to the person whose name they use, who comes in by the browser of last time. A name
that is not there counts like one that is.
"""

from __future__ import annotations

import secrets
from datetime import timedelta
from typing import NoReturn

from django.conf import settings
from django.core import signing
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from rest_framework.exceptions import Throttled

from tansy.server.accounts.models import FailedSignIn

WITHIN = timedelta(minutes=15)
MOST, MOST_OF_ADDRESS = 10, 50
"""Failures within that time, of a mark or of a name without one, and of all names from one address."""
_AHEAD = timedelta(minutes=1)
"""What is dated later is of a clock that went ahead and was set back, and shuts no door."""
_COOKIE, _SALT = "tansy-device", "tansy.device"
_KEPT = timedelta(days=180)


def address_of(request: HttpRequest) -> str:
    """Where a request comes from: behind a proxy that is said to be there, what this wrote last."""
    if settings.BEHIND_PROXY:
        return request.headers.get("X-Forwarded-For", "").rsplit(",", 1)[-1].strip()[:45]
    return request.META.get("REMOTE_ADDR", "")[:45]


def mark_of(request: HttpRequest, username: str) -> str:
    """The mark of a browser that this name has signed in from; empty without one."""
    try:
        told = signing.loads(request.COOKIES.get(_COOKIE, ""), salt=_SALT, max_age=_KEPT)
    except signing.BadSignature:
        return ""
    return str(told["mark"]) if told["user"] == _plain(username) else ""


def leave_mark(response: HttpResponse, username: str) -> None:
    value = signing.dumps({"user": _plain(username), "mark": secrets.token_urlsafe(12)}, salt=_SALT)
    response.set_cookie(
        _COOKIE, value, max_age=int(_KEPT.total_seconds()), httponly=True, samesite="Lax",
        secure=settings.SESSION_COOKIE_SECURE,
    )  # fmt: skip


def check(request: HttpRequest, username: str) -> None:
    """Raises Throttled where too much has been tried."""
    now = timezone.now()
    recent = FailedSignIn.objects.filter(at__gt=now - WITHIN, at__lte=now + _AHEAD)
    mark = mark_of(request, username)
    if mark:
        tried = recent.filter(mark=mark)
        most = MOST
    else:
        name, address = _plain(username), address_of(request)
        of_address = recent.filter(mark="", address=address)
        if of_address.count() >= MOST_OF_ADDRESS:
            _refuse(of_address)
        if not name:  # a link, which says for whom it is: what strangers guess keeps nobody else from using theirs
            return
        tried, most = recent.filter(name=name, mark=""), MOST
    if tried.count() >= most:
        _refuse(tried)


def failed(request: HttpRequest, username: str) -> None:
    FailedSignIn.objects.filter(at__lt=timezone.now() - 4 * WITHIN).delete()
    FailedSignIn.objects.create(name=_plain(username), mark=mark_of(request, username), address=address_of(request))


def _refuse(tried: QuerySet[FailedSignIn]) -> NoReturn:
    counted = list(tried.order_by("-at")[:MOST])
    wait = (counted[-1].at + WITHIN - timezone.now()).total_seconds()
    minutes = max(1, round(wait / 60.0))
    raise Throttled(
        max(1, int(wait)),
        f"Too much has been tried with this name or from here; try again in {minutes} "
        f"{'minute' if minutes == 1 else 'minutes'}, or from a browser that you have signed in from before.",
    )


def _plain(username: str) -> str:
    return username.strip().casefold()[:150]
