"""Imported by the process that all others are copied from: everything that a run needs is loaded, and has run once, so that the
first run of a user's model finds it warm. The only module that does something when it is imported, since that process can be told
nothing but what to import."""

from larktally.demo.evening import three_hops
from larktally.views.page.run_view import packed_runs
from larktally.watch import worker
from larktally.watch.judged_run import judged

__all__ = ["worker"]

packed_runs([judged(three_hops.changed(frames=30, inputs=None)).view])
