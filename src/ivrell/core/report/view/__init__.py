"""What is shown of findings, made once for the page, the terminal and the report."""
