"""How a picture was made, as XMP (ISO 16684-1): what picture files of every kind have room for."""

from __future__ import annotations

from xml.sax.saxutils import escape, quoteattr

from ..primitives import Page

OWN = "https://kestrelmist.invalid/ns/picture/1.0/"
"""Name of our own words; it leads nowhere."""


def packet(page: Page) -> str:
    """The packet of a page: title, caption, the facts by their names, and the size of a pixel."""
    rows = "".join(
        f"<rdf:li rdf:parseType='Resource'><k:name>{escape(name)}</k:name><k:value>{escape(value)}</k:value></rdf:li>"
        for name, value in page.facts
    )
    pixel = ""
    if page.pixel is not None:
        pixel = f"<k:PixelSize>{page.pixel[0]:.9g}</k:PixelSize><k:PixelUnit>{escape(page.pixel[1])}</k:PixelUnit>"
    words = f"<rdf:Alt><rdf:li xml:lang='x-default'>{escape(page.caption)}</rdf:li></rdf:Alt>"
    said = f"<dc:description>{words}</dc:description>"
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>'
        '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
        f'<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/" '
        f'xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmlns:k={quoteattr(OWN)} xmp:CreatorTool="Kestrelmist">'
        f"<dc:title><rdf:Alt><rdf:li xml:lang='x-default'>{escape(page.title)}</rdf:li></rdf:Alt></dc:title>"
        f"{said if page.caption else ''}{pixel}<k:facts><rdf:Seq>{rows}</rdf:Seq></k:facts>"
        '</rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>'
    )
