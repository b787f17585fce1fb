"""Reports on paper: PDF of a part and of a lot."""

from hemtra.storage.reports.lot_report import LotContent, save_lot_report
from hemtra.storage.reports.part_report import PartContent, save_part_report

__all__ = ["LotContent", "PartContent", "save_lot_report", "save_part_report"]
