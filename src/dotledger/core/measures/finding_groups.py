"""What shares one threshold, as plain columns over common images."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints

__all__ = ["Group", "joined"]


@dataclass(frozen=True, eq=False, kw_only=True)
class Group:
    """Findings that share one threshold, judged, and what is annotated.

    A finding is right or wrong whatever the threshold: pairing goes by falling confidence, so
    that what is cut away never decided about what is kept.

    Attributes
    ----------
    name : str
        ``all``, a kind, or ``kind:label``.
    kinds : tuple of str
        What it holds.
    images : int
        All that are compared, of any kind.
    confidence : ndarray of float64, shape (n,)
        Of findings that are not set aside; infinite where the service simply asserts.
    image : ndarray of intp, shape (n,)
        Of each finding.
    right : ndarray of bool, shape (n,)
        Whether it is a true positive.
    true_image : ndarray of intp, shape (m,)
        Of each countable annotation.
    absent : ndarray of float64, shape (images,), or None
        Presence only: labels rightly absent from each image.
    top : ndarray of float64, shape (images,)
        The highest confidence in each image, of whatever label the kind has; ``-inf`` for none.
    inside, unsafe, left_out : ndarray of bool, shape (images,)
        Images in scope; those with something annotated; those with doubtful annotations only.
    """

    name: str
    kinds: tuple[str, ...]
    images: int
    confidence: Floats
    image: Ints
    right: Flags
    true_image: Ints
    absent: Floats | None
    top: Floats
    inside: Flags
    unsafe: Flags
    left_out: Flags

    @property
    def annotated(self) -> int:
        """Countable annotations."""
        return len(self.true_image)

    def on(self, images: Flags) -> Group:
        """Return the group reduced to some images, which keep their numbers."""
        rows = images[self.image]
        return replace(
            self,
            confidence=self.confidence[rows],
            image=self.image[rows],
            right=self.right[rows],
            true_image=self.true_image[images[self.true_image]],
            absent=None if self.absent is None else np.where(images, self.absent, 0.0),
            top=np.where(images, self.top, -np.inf),
            inside=self.inside & images,
            unsafe=self.unsafe & images,
            left_out=self.left_out & images,
        )


def joined(groups: Sequence[Group]) -> Group:
    """Return several kinds as one group, named ``all``.

    Parameters
    ----------
    groups : sequence of Group
        Over the same images; at least one.

    Returns
    -------
    Group
        Absent labels are counted only if every kind is judged by presence.
    """
    absent = [group.absent for group in groups if group.absent is not None]
    unsafe = np.any([group.unsafe for group in groups], axis=0)
    return Group(
        name="all",
        kinds=tuple(kind for group in groups for kind in group.kinds),
        images=groups[0].images,
        confidence=np.concatenate([group.confidence for group in groups]),
        image=np.concatenate([group.image for group in groups]),
        right=np.concatenate([group.right for group in groups]),
        true_image=np.concatenate([group.true_image for group in groups]),
        absent=np.sum(absent, axis=0) if len(absent) == len(groups) else None,
        top=np.max([group.top for group in groups], axis=0),
        inside=np.any([group.inside for group in groups], axis=0),
        unsafe=unsafe,
        left_out=np.any([group.left_out for group in groups], axis=0) & ~unsafe,
    )
