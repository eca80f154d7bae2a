"""The pages behind links in mail. Whoever has the link may do the one thing it is for: nobody is signed in, and no script runs.

A plain GET changes nothing, since programs that look through mail open links too; a form asks once more.
"""

import base64
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_http_methods

from watchtide.server import moments
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import Entry
from watchtide.server.lookouts import links, mail, notices
from watchtide.server.lookouts.models import BEGAN, Group, Link, Notice
from watchtide.server.people import trail
from watchtide.server.scans import services as scans

UNDO = timedelta(minutes=10)
# As everywhere: the word in the logbook, the words on the page, and what they mean.
VERDICTS = (
    ("incident", "Incident", "something was wrong"),
    ("foreseen", "Foreseen", "a known event, all right"),
    ("false-alarm", "False alarm", "nothing there"),
    ("unsure", "Unsure", "leave it out of the count"),
)


def _page(request: HttpRequest, template: str, context: dict[str, Any], status: int = 200) -> HttpResponse:
    answer = render(request, template, {"nonce": request.csp_nonce, **context}, status=status)
    answer["Cache-Control"] = "no-store"
    # The link must not travel on in a Referer.
    answer["Referrer-Policy"] = "no-referrer"
    return answer


def _gone(request: HttpRequest) -> HttpResponse:
    return _page(request, "mail/gone.html", {}, status=404)


# There is no session that another site could use: the link itself is what entitles.
@csrf_exempt
@require_http_methods(["GET", "HEAD", "POST"])
def confirm(request: HttpRequest, text: str) -> HttpResponse:
    """Whether an address wants notices."""
    link = links.find(text, is_verdict=False)
    if link is None:
        return _gone(request)
    if request.method == "POST":
        with transaction.atomic():
            notices.confirm(link.route)
            trail.note(request, "mail address confirmed", link.route.name, by=link.route.to)
        link.route.refresh_from_db()
    return _page(request, "mail/confirm_page.html", {"route": link.route})


@csrf_exempt
@require_http_methods(["GET", "HEAD", "POST"])
def verdict(request: HttpRequest, text: str) -> HttpResponse:
    """What an incident was, by whoever got the mail: written into the logbook once, and taken back within ten minutes."""
    link = links.find(text, is_verdict=True)
    if link is None or link.group is None:
        return _gone(request)
    wrong = ""
    if request.method == "POST":
        wrong = _take_back(link) if "undo" in request.POST else _judge(request, link)
    else:
        Group.objects.filter(pk=link.group.pk, opened_at=None).update(opened_at=moments.now())
    group = Group.objects.select_related("lookout").get(pk=link.group.pk)
    context = {"group": group, "verdicts": VERDICTS, "wrong": wrong, **_of(group)}
    context["may_undo"] = bool(group.verdict) and _may_undo(group)
    context["chosen"] = next((words for value, words, _ in VERDICTS if value == group.verdict), "")
    return _page(request, "mail/verdict.html", context, status=409 if wrong else 200)


def _of(group: Group) -> dict[str, Any]:
    """The first notice of a group as a letter, without links of its own."""
    notice = (
        Notice.objects.select_related("stream", "lookout", "group").filter(group=group, kind=BEGAN).first()
    )
    if notice is None or notice.stream is None:
        return {"heading": group.lookout.name, "lines": (), "image": ""}
    return {
        "heading": mail.sentence(notice),
        "lines": mail.lines_of(notice),
        "image": base64.b64encode(mail.picture_of(notice)).decode(),
    }


def _may_undo(group: Group) -> bool:
    return group.judged_at is not None and moments.now() - group.judged_at <= UNDO


@transaction.atomic
def _judge(request: HttpRequest, link: Link) -> str:
    """Write the verdict over every finding of the incident. Returns why not, empty where it was written."""
    group = Group.objects.select_for_update().get(pk=link.group_id)
    if group.verdict:
        return f"{group.judged_by} gave a verdict already."
    given = request.POST.get("verdict", "")
    if given not in [value for value, *_ in VERDICTS]:
        return "Choose one of the four."
    by = f"{link.route.name}, from a notice"[:150]
    words = {
        name: request.POST.get(name, "").strip()[:most] for name, most in (("cause", 500), ("note", 2_000))
    }
    raised = group.raised.select_related("stream")
    contents = [scans.entry_of(one, given, **words) for one in raised]
    entries = logbook.add_all(contents, by)
    group.verdict, group.judged_by, group.judged_at = given, by, moments.now()
    group.entries = [entry.pk for entry in entries]
    group.save()
    trail.note(request, "verdict from a notice", f"{group.lookout_id} {given}", by=by)
    return ""


@transaction.atomic
def _take_back(link: Link) -> str:
    group = Group.objects.select_for_update().get(pk=link.group_id)
    if not group.verdict or not _may_undo(group):
        return "It is too late to take it back here; the logbook can still be changed."
    logbook.remove_all(list(Entry.objects.filter(pk__in=group.entries)), group.judged_by)
    group.verdict, group.judged_by, group.judged_at, group.entries = "", "", None, []
    group.save()
    return ""
