"""Formulas of the OASIS OpenFormula standard: read, checked, and put to a spreadsheet engine."""
