"""Structure of a PDF for those who do not see it (ISO 32000-1, 14.7 and 14.8): headings, paragraphs, tables,
figures with words, and the language; what decorates a page is marked as such. Metadata as XMP (ISO 16684-1).
"""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any
from xml.sax.saxutils import escape

from reportlab.pdfbase.pdfdoc import PDFArray, PDFDictionary, PDFName, PDFStream, PDFString, PDFtrue
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable, Frame, Paragraph, Table

LANGUAGE = "en-GB"
TITLE_FROM, HEADING_FROM = 14.0, 10.5
"""Points of text from which on it is the title of a report, or of a section."""


@dataclass
class Element:
    """A node of the structure. page, mcid: where its content lies, None for a node of nodes."""

    role: str
    alt: str = ""
    page: int | None = None
    mcid: int | None = None
    children: list[Element] = field(default_factory=list)


class TaggedCanvas(Canvas):
    """Keeps the structure of what is drawn, and writes it when the document is saved."""

    # what the library keeps of a page and of the document; its types do not name them
    _code: list[str]
    _doc: Any

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.root = Element("Document")
        self.open = [self.root]
        self._on_page: list[Element] = []
        self._pages: list[list[Element]] = []

    def marked(self, start: int, role: str, alt: str = "") -> None:
        """Assign everything drawn since a place of the page's code to the innermost open element."""
        if len(self._code) == start:
            return
        element = Element(role, alt, len(self._pages), len(self._on_page))
        self._on_page.append(element)
        self.open[-1].children.append(element)
        self._code.insert(start, f"/{role} <</MCID {element.mcid}>> BDC")
        self._code.append("EMC")

    @contextmanager
    def within(self, role: str) -> Iterator[Element]:
        """Assign everything drawn meanwhile to an element of that role."""
        element = Element(role)
        self.open[-1].children.append(element)
        self.open.append(element)
        try:
            yield element
        finally:
            self.open.pop()

    @contextmanager
    def decoration(self) -> Iterator[None]:
        """Mark everything drawn meanwhile as an artefact."""
        self._code.append("/Artifact BMC")
        yield
        self._code.append("EMC")

    def showPage(self) -> None:  # noqa: N802
        """End a page."""
        super().showPage()
        page = self._doc.Pages.pages[-1]
        page.__NoDefault__ = [*page.__NoDefault__, "StructParents"]
        page.StructParents = len(self._pages)
        self._pages.append(self._on_page)
        self._on_page = []

    def save(self) -> None:
        """Write the document, with its structure."""
        if self._code:
            self.showPage()
        self._describe(str(self._doc.info.title or ""))
        super().save()

    def _describe(self, title: str) -> None:
        """Language, metadata and structure of the whole document."""
        document, catalogue = self._doc, self._doc.Catalog
        catalogue.__NoDefault__ = [*catalogue.__NoDefault__, "Lang"]
        catalogue.Lang = PDFString(LANGUAGE)
        catalogue.MarkInfo = PDFDictionary({"Marked": PDFtrue})
        catalogue.ViewerPreferences = PDFDictionary({"DisplayDocTitle": PDFtrue})
        about = PDFDictionary({"Type": PDFName("Metadata"), "Subtype": PDFName("XML")})
        catalogue.Metadata = PDFStream(about, _xmp(title).encode(), filters=[])
        tree = PDFDictionary({"Type": PDFName("StructTreeRoot")})
        tree_at = document.Reference(tree)
        refs: dict[int, Any] = {}
        tree["K"] = self._written(self.root, tree_at, refs)
        nums: list[Any] = []
        for number, page in enumerate(self._pages):
            nums += [number, PDFArray([refs[id(element)] for element in page])]
        tree["ParentTree"] = document.Reference(PDFDictionary({"Nums": PDFArray(nums)}))
        tree["ParentTreeNextKey"] = len(self._pages)
        catalogue.StructTreeRoot = tree

    def _written(self, element: Element, parent: Any, refs: dict[int, Any]) -> Any:
        document = self._doc
        held = PDFDictionary({"Type": PDFName("StructElem"), "S": PDFName(element.role), "P": parent})
        at = refs[id(element)] = document.Reference(held)
        if element.alt:
            held["Alt"] = PDFString(element.alt)
        if element.page is not None:
            held["Pg"] = document.Reference(document.Pages.pages[element.page])
            held["K"] = element.mcid
        else:
            held["K"] = PDFArray([self._written(child, at, refs) for child in element.children])
        return at


class TaggedFrame(Frame):
    """Tags what is laid into it by what it is."""

    def add(self, flowable: Flowable, canv: Any, trySplit: int = 0) -> Any:  # noqa: N803
        """Draw it, if there is room."""
        start = len(canv._code)
        done = super().add(flowable, canv, trySplit)
        if done and not isinstance(flowable, TaggedTable):
            canv.marked(start, role_of(flowable), getattr(flowable, "alt", ""))
        return done


class TaggedTable(Table):
    """A table whose rows and cells can be distinguished."""

    def draw(self) -> None:
        """Cell by cell."""
        canvas: Any = self.canv
        with canvas.within("Table"):
            self._row: float | None = None
            super().draw()

    def _drawCell(self, cellval: Any, cellstyle: Any, pos: Any, size: Any) -> None:  # noqa: N802
        canvas: Any = self.canv
        row = pos[1] + size[1]
        table = canvas.open[-1]
        if row != self._row:
            self._row = row
            table.children.append(Element("TR"))
        start = len(canvas._code)
        super()._drawCell(cellval, cellstyle, pos, size)  # type: ignore[misc]  # its types leave it out
        canvas.open.append(table.children[-1])
        canvas.marked(start, "TH" if len(table.children) <= self.repeatRows else "TD")
        canvas.open.pop()


def role_of(flowable: Flowable) -> str:
    """Role of an element on a page."""
    if isinstance(flowable, Paragraph):
        size = flowable.style.fontSize
        return "H1" if size >= TITLE_FROM else "H2" if size >= HEADING_FROM else "P"
    if getattr(flowable, "alt", ""):
        return "Figure"
    return "Div" if isinstance(flowable, Table) else "P"


def _xmp(title: str) -> str:
    now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    return f"""<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>
<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/"
 xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmlns:pdf="http://ns.adobe.com/pdf/1.3/">
<dc:format>application/pdf</dc:format>
<dc:title><rdf:Alt><rdf:li xml:lang="x-default">{escape(title)}</rdf:li></rdf:Alt></dc:title>
<dc:creator><rdf:Seq><rdf:li>Hemtra</rdf:li></rdf:Seq></dc:creator>
<dc:language><rdf:Bag><rdf:li>{LANGUAGE}</rdf:li></rdf:Bag></dc:language>
<xmp:CreatorTool>Hemtra</xmp:CreatorTool><xmp:CreateDate>{now}</xmp:CreateDate>
</rdf:Description></rdf:RDF></x:xmpmeta>
<?xpacket end="w"?>"""
