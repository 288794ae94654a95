"""What the queue calls. The web server loads this to put work into the queue; what does the work
is loaded by the worker when there is some."""

from procrastinate.contrib.django import app

from ivrell.server.jobs.queue import MACHINE_LOCK, QUEUE


@app.task(queue=QUEUE, lock=MACHINE_LOCK, name="do_job")
def do_job(job_id: int) -> None:
    """Do a job from its record."""
    from ivrell.server.jobs.runner import do

    do(job_id)
