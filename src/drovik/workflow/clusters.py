"""Commands on a cluster: what of a project is done there."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from drovik.project.reading import Project

if TYPE_CHECKING:
    from drovik.evaluation.judged_elsewhere import JudgesElsewhere
    from drovik.transport.preparer import WriterElsewhere


@contextlib.contextmanager
def sending_from(address: str | None, project: Project) -> Iterator[tuple[Project, WriterElsewhere | None]]:
    """A project whose pictures a cluster's workers digest where they see them, and what has requests sent there.

    :param address: of the cluster's scheduler, or `local:N`; None: all is done here.
    :raises DrovikError: where it cannot be used.
    """
    if address is None:
        yield project, None
        return
    from drovik.cluster.connection import open_cluster
    from drovik.cluster.sending import ClusterWriter, digests_by

    with open_cluster(address, project) as cluster:
        writer = ClusterWriter(cluster, project.pictures)
        if cluster.images:
            project = replace(project, pictures=project.pictures.digested_by(partial(digests_by, cluster)))
        yield project, writer


@contextlib.contextmanager
def judges_on(address: str | None, project: Project) -> Iterator[JudgesElsewhere | None]:
    """The workers of a cluster, as what judges a project's answers; None where that is done on this machine.

    To be opened before the store is.

    :raises DrovikError: where the cluster cannot be used.
    """
    if address is None:
        yield None
        return
    from drovik.cluster.connection import open_cluster
    from drovik.cluster.judging import ClusterJudges

    with open_cluster(address, project) as cluster:
        yield ClusterJudges(cluster)
