"""The pages of the jobs: what each is about, and its steps as a newcomer follows them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from importlib.resources import files


@dataclass(frozen=True, slots=True)
class Page:
    """ident: as J07; lead: what is brought; steps: what is done, in order. Texts are Markdown, without pictures."""

    ident: str
    title: str
    lead: str
    steps: tuple[str, ...]


_HEAD = re.compile(r"# (J\d+b?): (.+)")
_STEP = re.compile(r"\d+\. ")


@cache
def pages() -> tuple[Page, ...]:
    """All pages, by number."""
    folder = files("lithon.jobs") / "pages"
    texts = [p.read_text("utf-8") for p in folder.iterdir() if re.fullmatch(r"J\d+\.md", p.name)]
    return tuple(sorted((read(text) for text in texts), key=lambda p: p.ident))


def read(text: str) -> Page:
    """A page from its text: a heading, a paragraph or more, numbered steps."""
    head, *rest = [part.strip() for part in text.strip().split("\n\n")]
    named = _HEAD.fullmatch(head)
    if named is None:
        raise ValueError(f"a job's page begins with its number and title, not with {head!r}")
    words = [part for part in rest if not part.startswith("![")]
    listed = "\n".join(part for part in words if _STEP.match(part))
    steps = [" ".join(s.split()) for s in re.split(r"^\d+\. ", listed, flags=re.MULTILINE) if s.strip()]
    lead = " ".join(" ".join(part.split()) for part in words if not _STEP.match(part))
    return Page(named[1], named[2], lead, tuple(steps))
