"""Write docs/identity-elements.md: every element that may stay when identity is removed, and why."""

from __future__ import annotations

from pathlib import Path

from kestrelmist.gather.stays_table import what_stays

HEAD = """# Elements that may stay when identity is removed

Made by `python docs/elements.py` from `gather/what_stays.py` and `gather/identity_profile.py`. A test compares them,
and walks every element that the DICOM standard names. What is not in this table goes: texts, documents, names of
persons, and whole groups that an image does not need. These stay with the settings as they come; `what-stays` lists
them for other settings.
"""


def text() -> str:
    """The whole document."""
    groups: dict[str, dict[str, list[str]]] = {}
    heads: dict[str, str] = {}
    for tag, keyword, _, about, why in what_stays().rows:
        group = str(tag)[1:5].upper()
        heads[group] = "the subject" if group == "0010" else str(about)
        groups.setdefault(group, {}).setdefault(str(why), []).append(str(keyword))
    parts = [HEAD]
    for group, reasons in groups.items():
        parts.append(f"## Group {group}: {heads[group]}\n")
        parts += [f"*{why[:1].upper()}{why[1:]}:* {', '.join(names)}.\n" for why, names in reasons.items()]
    return "\n".join(parts)


if __name__ == "__main__":
    Path(__file__).with_name("identity-elements.md").write_text(text(), encoding="utf-8")
