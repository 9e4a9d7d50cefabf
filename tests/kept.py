"""The drafts that a job keeps, with their steps, to be compared."""


def kept_drafts(job):
    """Each with its steps, the one touched last first."""
    return [(draft, job.steps(draft.id)) for draft in job.drafts()]
