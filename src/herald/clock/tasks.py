"""What a worker does now and then: looks at attention items, and tidies the job queue."""

from procrastinate.contrib.django import app

from herald.clock.shared_causes import look_for_shared_causes
from herald.time import clock

STALLED_AFTER_SECONDS = 8
KEEP_JOBS_HOURS, KEEP_FAILED_JOBS_HOURS = 24, 24 * 30
MAX_ATTEMPTS = 4


@app.periodic(cron="* * * * * */3")
@app.task(queue="housekeeping", queueing_lock="retry_stalled")
async def retry_stalled(timestamp: int) -> None:
    """Take up again what a worker that died was doing; give up what keeps killing workers."""
    from procrastinate.jobs import Status

    for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_AFTER_SECONDS):
        if job.attempts >= MAX_ATTEMPTS:
            await app.job_manager.finish_job(job, status=Status.FAILED, delete_job=False)
        else:
            await app.job_manager.retry_job(job)


@app.periodic(cron="17 * * * *")
@app.task(queue="housekeeping", queueing_lock="delete_old_jobs")
async def delete_old_jobs(timestamp: int) -> None:
    """Delete jobs that ended a day ago, and those that failed a month ago."""
    await app.job_manager.delete_old_jobs(nb_hours=KEEP_JOBS_HOURS, include_failed=False)
    await app.job_manager.delete_old_jobs(nb_hours=KEEP_FAILED_JOBS_HOURS, include_failed=True)


@app.periodic(cron="* * * * *")
@app.task(queue="attention", queueing_lock="look_for_shared_causes")
def look_at_items(timestamp: int) -> None:
    """Look for what the devices of attention items share."""
    look_for_shared_causes(now=clock.now())
