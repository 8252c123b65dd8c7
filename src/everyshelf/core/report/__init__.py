"""A comparison to keep and to send: one self-contained HTML page, Markdown, or JSON."""

from everyshelf.core.report.document import FORMS, Form, form_of, report_of, written

__all__ = ["FORMS", "Form", "form_of", "report_of", "written"]
