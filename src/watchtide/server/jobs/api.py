"""Jobs as the page sees them, and the stream of hints."""

import asyncio
import json
import time
from collections.abc import AsyncIterator, Sequence
from typing import Any

from asgiref.sync import sync_to_async
from django.db import Error, close_old_connections
from django.http import HttpRequest, JsonResponse, StreamingHttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import paging, patience, problems
from watchtide.server.jobs import services
from watchtide.server.jobs.models import OPEN, STATE_CHOICES, Event, Job


class JobSerializer(serializers.ModelSerializer):
    state = serializers.ChoiceField(choices=STATE_CHOICES)
    result = serializers.DictField(child=serializers.JSONField())

    class Meta:
        model = Job
        fields = [
            "id", "kind", "title", "state", "done", "total", "message", "log", "result", "is_cancel_asked", "attempt",
            "created_at", "started_at", "ended_at",
        ]  # fmt: skip


PAGE = paging.of(JobSerializer)


class JobsView(APIView):
    @extend_schema(operation_id="jobs", parameters=paging.PARAMETERS, responses=PAGE)
    def get(self, request) -> Response:
        """Open jobs, then the latest that ended, 1,000 at most."""
        by_age = Job.objects.order_by("-pk").values_list("pk", flat=True)
        ended = by_age.exclude(state__in=OPEN)[: paging.MOST]
        numbers = [*by_age.filter(state__in=OPEN), *ended]

        def listed(page: Sequence[int]) -> Any:
            found = Job.objects.in_bulk(page)
            return JobSerializer([found[pk] for pk in page if pk in found], many=True).data

        return paging.parts(request, numbers, listed, usual=50)


class JobView(APIView):
    @extend_schema(responses=JobSerializer, operation_id="job")
    def get(self, request, pk: int) -> Response:
        return Response(JobSerializer(Job.objects.get(pk=pk)).data)

    @extend_schema(operation_id="cancel_job", responses={200: JobSerializer})
    def delete(self, request, pk: int) -> Response:
        job = Job.objects.get(pk=pk)
        services.cancel(job)
        job.refresh_from_db()
        return Response(JobSerializer(job).data)


class Hub:
    """One poller a process, which feeds every listener's queue from the event table."""

    def __init__(self) -> None:
        self.listeners: set[asyncio.Queue[Event]] = set()
        self.task: asyncio.Task[None] | None = None

    async def listen(self) -> AsyncIterator[bytes]:
        queue: asyncio.Queue[Event] = asyncio.Queue(maxsize=1000)
        self.listeners.add(queue)
        if self.task is None or self.task.done():
            self.task = asyncio.create_task(self._poll())
        try:
            yield b"retry: 2000\n\n"
            beat = time.monotonic()
            while True:
                try:
                    event = await asyncio.wait_for(queue.get(), 15)
                    data = json.dumps({"kind": event.kind, "subject": event.subject, **event.payload})
                    yield f"id: {event.pk}\nevent: hint\ndata: {data}\n\n".encode()
                except TimeoutError:
                    yield b": still here\n\n"
                if time.monotonic() - beat > 300:
                    # Rights are checked anew when the browser reconnects.
                    return
        finally:
            self.listeners.discard(queue)

    async def _poll(self) -> None:
        last: int | None = None
        while self.listeners:
            try:
                if last is None:
                    last = await sync_to_async(_newest)()
                for event in await sync_to_async(_since)(last):
                    last = event.pk
                    self._hand_on(event)
                pause = 0.3
            except Error as error:
                if not patience.is_passing(error):
                    patience.log.error("hints are not read", exc_info=error)
                pause = 2.0
            await asyncio.sleep(pause)

    def _hand_on(self, event: Event) -> None:
        for queue in list(self.listeners):
            if queue.full():
                # It will see the gap in the numbers and fetch anew.
                queue.get_nowait()
            queue.put_nowait(event)


def _newest() -> int:
    close_old_connections()
    return Event.objects.order_by("-pk").values_list("pk", flat=True).first() or 0


def _since(last: int) -> list[Event]:
    close_old_connections()
    return list(Event.objects.filter(pk__gt=last).order_by("pk")[:500])


hub = Hub()


async def events(request: HttpRequest) -> StreamingHttpResponse | JsonResponse:
    """Server-sent hints; the page fetches what they point at."""
    user = await request.auser()
    if not user.is_authenticated:
        return problems.answer(401, "sign in first")
    response = StreamingHttpResponse(hub.listen(), content_type="text/event-stream")
    response["Cache-Control"] = "no-store"
    response["X-Accel-Buffering"] = "no"
    return response
