"""A lookout's notices as an Atom feed (RFC 4287)."""

from django.conf import settings
from django.utils.feedgenerator import Atom1Feed

from watchtide.server.lookouts import mail, models
from watchtide.server.lookouts.models import Lookout

MOST = 100
CONTENT_TYPE = Atom1Feed.content_type


def atom(lookout: Lookout) -> str:
    """The latest notices, newest first; the id of each is the notice's."""
    page = f"{settings.ADDRESS}/lookouts/{lookout.pk}"
    out = Atom1Feed(
        title=f"{lookout.name} · Watch Tide",
        link=page,
        description=f"What the lookout {lookout.name} announced",
        feed_url=f"{settings.ADDRESS}/api/v1/lookouts/{lookout.pk}/feed.atom",
        feed_guid=page,
    )
    found = lookout.notices.exclude(kind=models.TEST).select_related("stream", "group").order_by("-pk")[:MOST]
    for notice in found:
        out.add_item(
            title=notice.title,
            link=mail.chart_of(notice) or page,
            description=notice.text,
            unique_id=f"urn:watchtide:notice:{notice.uid}",
            pubdate=notice.created_at,
            updateddate=notice.created_at,
            categories=[notice.kind],
        )
    return out.writeString("utf-8")
