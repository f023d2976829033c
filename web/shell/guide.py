"""The user's guide as pages of the application: the text of docs/guide.md, a page for each of its chapters."""

import re
from functools import cache

import attrs
from django.conf import settings
from django.http import FileResponse, Http404
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.safestring import mark_safe
from django.views.decorators.http import require_GET
from markdown_it import MarkdownIt

DOCS = settings.ROOT / "docs"
FIRST = "first"
# Which chapter belongs to which stage.
OF_STAGE = {"reference": "reference", "sketch": "sketch", "solid": "solid", "inspect": "inspect", "release": "inspect"}
_HEADING = re.compile(r"^## (?:\d+\. )?(.+)$", re.MULTILINE)


@attrs.frozen
class Chapter:
    """A chapter: its address, title and text as HTML."""

    slug: str
    title: str
    html: str = attrs.field(repr=False)


@cache
def chapters():
    """The chapters by address, in order; what stands before the first is the first."""
    text = (DOCS / "guide.md").read_text()
    first, *rest = _HEADING.split(text)
    parts = [(FIRST, "First of all", first.partition("\n")[2])]
    parts += [(_slug(title), title, body) for title, body in zip(rest[::2], rest[1::2])]
    return {slug: Chapter(slug, title, _html(body)) for slug, title, body in parts}


def _slug(title):
    return re.sub(r"[^a-z]+", "-", title.lower()).strip("-").removeprefix("a-").split("-")[0]


def _html(text):
    # Headings of a chapter stand under the title of its page.
    text = re.sub(r"^### ", "## ", text, flags=re.MULTILINE)
    address = reverse("guide-picture", args=["NAME"])
    html = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    return re.sub(r'src="screenshots/([\w-]+)\.png"', lambda found: f'src="{address.replace("NAME", found[1])}"', html)


@require_GET
def page(request, slug=FIRST):
    """A chapter; a stage is sent to its own."""
    if slug in OF_STAGE and OF_STAGE[slug] != slug:
        return redirect("guide-chapter", OF_STAGE[slug])
    found = chapters()
    if slug not in found:
        raise Http404("no such chapter")
    order = list(found.values())
    at = order.index(found[slug])
    context = {
        "chapters": order,
        "chapter": found[slug],
        "html": mark_safe(found[slug].html),  # noqa: S308  our own text, rendered without raw HTML
        "following": order[at + 1] if at + 1 < len(order) else None,
    }
    return render(request, "guide.html", context)


@require_GET
def picture(request, name):
    """A picture of the guide, taken from the demo jobs."""
    place = DOCS / "screenshots" / f"{name}.png"
    if not re.fullmatch(r"[\w-]+", name) or not place.is_file():
        raise Http404("no such picture")
    return FileResponse(place.open("rb"), content_type="image/png")
