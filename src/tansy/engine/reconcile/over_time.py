"""Forecasts of one node at several time levels made to add up, for all nodes at once.

With leads l and blocks b of a node, S the sums of leads to blocks, and error variances W of leads and V of blocks, the
leads that fit both best are

    l + W S' (V + S W S')^-1 (b - S l)

(Athanasopoulos, Hyndman, Kourentzes, Petropoulos 2017, weighted by variances). Where the variances of time nodes stand
in the same ratio at every node, this is half of a projection in both directions: the covariance is then the product of
one across nodes and one over time, for which the two projections commute, so that reconciling over time first and
across nodes after is what reconciling all of it at once gives, whatever the covariance across nodes.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def over_time(leads: Floats, blocks: Floats, holds: Floats, of_leads: Floats, of_blocks: Floats) -> Floats:
    """Reconcile.

    Parameters
    ----------
    leads : [nodes, H].
    blocks : [nodes, B]; one that is NaN says nothing.
    holds : [B, H], one where a lead lies in a block.
    of_leads, of_blocks : error variances [nodes, H] or [H], and [nodes, B] or [B]; a lead of none does not move, and
        those of blocks are above zero.

    Returns
    -------
    [nodes, H], leads, of which blocks are sums.
    """
    n, n_leads = leads.shape
    w = np.broadcast_to(of_leads, (n, n_leads))
    v = np.broadcast_to(of_blocks, blocks.shape)
    says = ~np.isnan(blocks)
    gap = np.where(says, np.nan_to_num(blocks) - leads @ holds.T, 0.0)
    both = says[:, :, None] & says[:, None, :]
    system = np.where(both, np.einsum("bh,nh,ch->nbc", holds, w, holds, optimize=True), 0.0)
    diagonal = np.arange(blocks.shape[1])
    system[:, diagonal, diagonal] += np.where(says, v, 1.0)
    pull = np.linalg.solve(system, gap[:, :, None])[:, :, 0]
    return np.asarray(leads + w * (pull @ holds))
