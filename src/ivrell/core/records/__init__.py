"""What is told from one part to another, each record defined once: files, API and page follow it.

``wire`` is what the conductor, the runner and the worker say to each other, of the standard library
alone; the others are models that files and the API are made of. Records know nothing of what makes
or reads them.
"""
