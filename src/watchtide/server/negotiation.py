"""How a door chooses the form of its answer."""

from collections.abc import Sequence
from typing import Any

from rest_framework.negotiation import BaseContentNegotiation, DefaultContentNegotiation


class AsItIs(BaseContentNegotiation):
    """Each door answers in its one form, whatever `Accept` says: JSON, or what the path's ending names."""

    def select_parser(self, request: Any, parsers: Sequence[Any]) -> Any:
        return DefaultContentNegotiation().select_parser(request, parsers)

    def select_renderer(
        self, request: Any, renderers: Sequence[Any], format_suffix: str | None = None
    ) -> Any:
        return renderers[0], renderers[0].media_type
