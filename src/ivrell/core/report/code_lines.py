"""Lines of code as people count them: without blanks and comments."""


def code_lines(text: str, language: str) -> int:
    """Lines that hold code. ``language`` is ``python`` or ``sql``."""
    mark = "#" if language == "python" else "--"
    lines = (line.strip() for line in text.splitlines())
    return sum(1 for line in lines if line and not line.startswith(mark))
