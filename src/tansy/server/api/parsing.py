"""Bodies of requests."""

from __future__ import annotations

import json
from typing import Any

from rest_framework import exceptions, parsers


class StrictJSONParser(parsers.JSONParser):
    """JSON whose texts are texts: half of a surrogate pair cannot be kept or sent anywhere."""

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        data = super().parse(stream, media_type, parser_context)
        try:
            json.dumps(data, ensure_ascii=False).encode()
        except UnicodeEncodeError:
            raise exceptions.ParseError("The body holds half of a letter (a lone surrogate).") from None
        return data
