"""One run, by process: who launches it, the runner that watches, the worker beside a stranger's
code, and what takes its answer."""
