"""The report: what one file tells somebody who has no Ivrell, as a page or as Markdown."""
