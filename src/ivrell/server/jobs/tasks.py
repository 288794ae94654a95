"""What the queue calls. The web server loads this to put work into the queue; what does the work
is loaded by the worker when there is some."""

from procrastinate.contrib.django import app

from ivrell.server.jobs.queue import MACHINE_LOCK, QUEUE


@app.periodic(cron="* * * * *")
@app.task(queue=QUEUE, queueing_lock="schedules", name="launch_due")
def launch_due(timestamp: int) -> None:
    """Ask for the trials that are due by their schedules; of several that wait one is enough."""
    from ivrell.server.jobs.handlers import ask_for_those_due

    ask_for_those_due()


@app.task(queue=QUEUE, lock=MACHINE_LOCK, name="do_job")
def do_job(job_id: int) -> None:
    """Do a job from its record."""
    from ivrell.server.jobs.runner import do

    do(job_id)
