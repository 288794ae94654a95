"""What figures do not tell, for who reads them without having measured."""

NOT_TOLD: dict[str, str] = {
    "elapsed": "How long it takes on a busier or another machine, with other data, or for several "
    "people at once.",
    "ratio": "Anything of machines, sizes and versions beside those that are named: lanes change "
    "places with them.",
    "cpu_total": "Waiting for disks, locks and the network; work of the kernel for others. Of a "
    "server of one's own all that it did meanwhile is in it.",
    "peak_memory": "How long the memory was held, and what the kernel keeps of files beside it; "
    "between two readings a short peak can be missed.",
    "stages": "What the code does not name as a stage.",
    "code_lines": "How hard the code is to read or to change.",
    "answer": "Whether the reference itself is right: the lanes agree with it, or do not.",
}
"""By key of the column."""
