"""What our middlewares have in common: they work in both worlds of Django, and put something before and after a request."""

from typing import Any

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponse


class Around:
    """before : called first, what it returns goes to `after`; after : gives the answer that is sent."""

    sync_capable = True
    async_capable = True

    def __init__(self, get_response: Any) -> None:
        self.get_response = get_response
        if iscoroutinefunction(get_response):
            markcoroutinefunction(self)

    def __call__(self, request: HttpRequest) -> Any:
        if iscoroutinefunction(self.get_response):
            return self._answer(request)
        noted = self.before(request)
        return self.after(request, self.get_response(request), noted)

    async def _answer(self, request: HttpRequest) -> HttpResponse:
        noted = self.before(request)
        return self.after(request, await self.get_response(request), noted)

    def before(self, request: HttpRequest) -> Any:
        return None

    def after(self, request: HttpRequest, response: HttpResponse, noted: Any) -> HttpResponse:
        return response
