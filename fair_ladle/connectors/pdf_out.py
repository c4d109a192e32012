"""Statements as PDF, set by ReportLab: the same statement gives the same bytes."""

from __future__ import annotations

import io
from collections.abc import Sequence
from decimal import Decimal
from functools import lru_cache
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from reportlab import rl_config
from reportlab.graphics.charts.barcharts import VerticalBarChart
from reportlab.graphics.shapes import Drawing
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.platypus import KeepTogether, PageBreak, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from fair_ladle.connectors.printed import PdfParty, PdfRow, PdfStatement, figure

DEJAVU = Path("/usr/share/fonts/truetype/dejavu")
"""Debian's fonts-dejavu-core, which has the letters of most languages; without it those that ReportLab brings."""
INK, QUIET, RULE, BAR = (colors.HexColor(each) for each in ("#1c2430", "#5d6470", "#cfc8bb", "#2f4f6b"))
WIDTH = A4[0] - 36 * mm - 12
"""Of what stands on the page: its margins are 18 mm, and a frame keeps 6 points on each side."""


@lru_cache(1)
def _fonts() -> tuple[str, str]:
    there = (DEJAVU / "DejaVuSans-Bold.ttf").exists() and (DEJAVU / "DejaVuSans.ttf").exists()
    files = (DEJAVU / "DejaVuSans.ttf", DEJAVU / "DejaVuSans-Bold.ttf") if there else ("Vera.ttf", "VeraBd.ttf")
    for name, file in zip(("Text", "Bold"), files, strict=True):
        pdfmetrics.registerFont(TTFont(name, str(file)))
    return "Text", "Bold"


def statement_pdf(statements: Sequence[PdfStatement]) -> bytes:
    """Statements one after the other, each from a new page."""
    _fonts()
    rl_config.invariant = 1
    out = io.BytesIO()
    title = ", ".join(dict.fromkeys(f"{each.title} {each.month}" for each in statements))
    document = SimpleDocTemplate(
        out,
        pagesize=A4,
        title=title,
        author=statements[0].seller.name if statements else "",
        leftMargin=18 * mm,
        rightMargin=18 * mm,
        topMargin=16 * mm,
        bottomMargin=18 * mm,
    )
    story: list[Any] = []
    for each in statements:
        story += [PageBreak()] if story else []
        story += _story(each)
    document.build(story, onFirstPage=_foot, onLaterPages=_foot)
    return out.getvalue()


def _foot(canvas: Any, document: Any) -> None:
    canvas.setFont("Text", 7.5)
    canvas.setFillColor(QUIET)
    canvas.drawString(18 * mm, 10 * mm, document.title)
    canvas.drawRightString(A4[0] - 18 * mm, 10 * mm, str(document.page))


def _text(text: str, size: float = 9, bold: bool = False, quiet: bool = False, right: bool = False) -> Paragraph:
    style = ParagraphStyle(
        "text",
        fontName="Bold" if bold else "Text",
        fontSize=size,
        leading=size * 1.35,
        textColor=QUIET if quiet else INK,
        alignment=2 if right else 0,
    )
    return Paragraph(escape(text).replace("\n", "<br/>"), style)


def _party(label: str, party: PdfParty) -> list[Any]:
    lines = [*party.address, *([f"Tax number {party.tax_number}"] if party.tax_number else [])]
    return [_text(label, 7.5, quiet=True), _text(party.name, bold=True), *([_text("\n".join(lines))] if lines else [])]


def _story(statement: PdfStatement) -> list[Any]:
    facts = "\n".join(f"{name}: {value}" for name, value in statement.facts)
    head = Table(
        [[_party("From", statement.seller), _party("To", statement.buyer), [_text(facts, right=True)]]],
        colWidths=[WIDTH * 0.34, WIDTH * 0.34, WIDTH * 0.32],
    )
    sides = [(side, (0, 0), (-1, -1), 0) for side in ("LEFTPADDING", "RIGHTPADDING")]
    head.setStyle(TableStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), *sides]))
    rows: list[list[Any]] = [
        [_text("Product or charge", 8, quiet=True), _text("Billing basis", 8, quiet=True)]
        + [_text(each, 8, quiet=True, right=True) for each in ("Quantity", f"Amount, {statement.currency}")]
    ]
    for each in statement.rows:
        rows.append(_cells(each))
    if statement.taxes:
        rows.append(_cells(PdfRow("Before tax", "", "", statement.net), bold=True))
        rows.extend(_cells(each) for each in statement.taxes)
    last = "Credited" if statement.total < 0 else "Total"
    rows.append(_cells(PdfRow(f"{last} {statement.month}", "", statement.currency, statement.total), bold=True))
    lines = Table(rows, colWidths=[WIDTH * part for part in (0.38, 0.26, 0.19, 0.17)], repeatRows=1)
    lines.setStyle(
        TableStyle(
            [
                ("LINEBELOW", (0, 0), (-1, -2), 0.4, RULE),
                ("LINEABOVE", (0, -1), (-1, -1), 1, INK),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
                ("RIGHTPADDING", (-1, 0), (-1, -1), 0),
                ("TOPPADDING", (0, 0), (-1, -1), 2),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 2.5),
            ]
        )
    )
    story: list[Any] = [_text(f"{statement.title} {statement.month}", 15, bold=True), Spacer(1, 4 * mm), head]
    story += [Spacer(1, 6 * mm), lines, Spacer(1, 3 * mm), *(_text(each, 8, quiet=True) for each in statement.notes)]
    if len(statement.departments) > 1:
        story += [Spacer(1, 5 * mm), KeepTogether(_departments(statement))]
    if sum(1 for _, amount in statement.months if amount) > 1:
        story += [Spacer(1, 5 * mm), KeepTogether([_text("Twelve months", bold=True), _chart(statement.months)])]
    return story


def _cells(row: PdfRow, bold: bool = False) -> list[Any]:
    return [
        _text(row.what, bold=bold),
        _text(row.how, 8, quiet=True),
        _text(row.quantity, right=True, quiet=bold),
        _text(figure(row.amount), bold=bold, right=True),
    ]


def _departments(statement: PdfStatement) -> list[Any]:
    rows = [[_text(name), _text(figure(amount), right=True)] for name, amount in statement.departments]
    table = Table(rows, colWidths=[WIDTH * 0.83, WIDTH * 0.17])
    table.setStyle(
        TableStyle(
            [
                ("LINEBELOW", (0, 0), (-1, -1), 0.4, RULE),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
                ("RIGHTPADDING", (-1, 0), (-1, -1), 0),
                ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 2),
            ]
        )
    )
    return [_text(f"Usage by department, {statement.currency}", bold=True), table]


def _chart(months: Sequence[tuple[str, Decimal]]) -> Drawing:
    drawing = Drawing(WIDTH, 38 * mm)
    chart = VerticalBarChart()
    chart.x, chart.y, chart.width, chart.height = 34, 14, WIDTH - 36, 32 * mm
    chart.data = [[float(amount) for _, amount in months]]
    chart.categoryAxis.categoryNames = [name for name, _ in months]
    chart.valueAxis.valueMin = min(0.0, *chart.data[0])
    chart.bars[0].fillColor = BAR
    chart.bars.strokeColor = None
    chart.barWidth = 10
    for axis in (chart.categoryAxis, chart.valueAxis):
        axis.labels.fontName, axis.labels.fontSize = "Text", 7
        axis.labels.fillColor = QUIET
        axis.strokeColor = RULE
    chart.valueAxis.gridStrokeColor = RULE
    chart.valueAxis.visibleGrid = True
    drawing.add(chart)
    return drawing
