"""Passes of coordinate ascent on the dual of a linear classifier, compiled: all labels of a document side by side.

Each function goes once over documents in a given order, and changes the dual variables and, with them, the weights

    W = Σ over documents of (what the document pulls) · x / penalty,

whose last row, of the intercepts, begins anywhere: every document has there a term of squared value `bias`. What a document pulls
is its label less α for the softmax, and y·α for one label against the rest. All return the sums of the duality gaps and of the
losses of the documents, each as it was met.

dual: (n, k). W: (p + 1, at least k), its columns beyond k being 0: a width that processors like. order: (m,). held: the penalty
and the bias. Numbers are float32.

Loading this module takes some tenths of a second, and compiling seconds, once: the compiled code is kept next to the module, or
in the user's cache."""

import math
from typing import NamedTuple

import numpy as np

from upsort.core.arrays import AnyArray
from upsort.core.text.kernels import compiled

_F32_ONE, _ZERO, _HALF = np.float32(1), np.float32(0), np.float32(0.5)
_TINY = np.float32(1e-20)
_INNER = 6  # steps of Newton's method on one number, halved where they lead too far
_FARTHEST = np.float32(30)  # a logit


class Data(NamedTuple):
    """What does not change.

    ptr, idx, dat: a CSR matrix, its values float32. own: (n, k) 1 where a document has a label, else 0. cost: (n,) weights of
    documents. squares: (n, 1) Σ x², or (n, k) where the labels see the terms differently, by `scale`: (p, k), else (0, 0)."""

    ptr: AnyArray
    idx: AnyArray
    dat: AnyArray
    own: AnyArray
    cost: AnyArray
    squares: AnyArray
    scale: AnyArray


@compiled
def softmax_pass(data, dual, W, order, penalties):  # type: ignore[no-untyped-def]
    """−ln softmax(s)[own label]. A step goes from α towards p, the softmax of the scores, as far as the dual surely grows
    (Shalev-Shwartz & Zhang 2013, section 5: the entropy is 1-strongly convex in the 1-norm)."""
    ptr, idx, dat, own, cost, squares, _ = data
    penalty, bias = penalties
    k, wide, last = dual.shape[1], W.shape[1], W.shape[0] - 1
    s, d, e = np.zeros(wide, np.float32), np.zeros(wide, np.float32), np.zeros(k, np.float32)
    gaps, losses = 0.0, 0.0
    for i in order:
        if cost[i] == _ZERO:
            continue
        for j in range(wide):
            s[j] = W[last, j]
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            for j in range(wide):
                s[j] += v * W[r, j]
        top = s[0]
        for j in range(1, k):
            top = max(top, s[j])
        total = _ZERO
        for j in range(k):
            e[j] = math.exp(s[j] - top)
            total += e[j]
        level = np.float32(math.log(total)) + top
        gap, reach, square, mine = level, _ZERO, _ZERO, _ZERO
        for j in range(k):
            a = dual[i, j]
            gap += a * (np.float32(math.log(a + _TINY)) - s[j])
            mine += own[i, j] * s[j]
            e[j] = e[j] / total - a
            reach += abs(e[j])
            square += e[j] * e[j]
        gap = max(gap, _ZERO)
        gaps += cost[i] * gap
        losses += cost[i] * (level - mine)
        if square < np.float32(1e-12):
            continue
        bound = reach * reach + cost[i] * (squares[i, 0] + bias) / penalty * square
        step = min(_F32_ONE, (gap + _HALF * reach * reach) / bound)
        for j in range(k):
            dual[i, j] = max(dual[i, j] + step * e[j], _ZERO)
            d[j] = -step * cost[i] * e[j] / penalty
            W[last, j] += bias * d[j]
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            for j in range(wide):
                W[r, j] += v * d[j]
    return gaps, losses


@compiled
def hinge_pass(data, dual, W, order, penalties):  # type: ignore[no-untyped-def]
    """max(0, 1 − y s)² for each label. Steps are exact (Hsieh et al. 2008)."""
    ptr, idx, dat, own, cost, squares, scale = data
    penalty, bias = penalties
    k, wide, last = dual.shape[1], W.shape[1], W.shape[0] - 1
    scaled, per_label = scale.shape[0] > 0, squares.shape[1] > 1
    s, d = np.zeros(wide, np.float32), np.zeros(wide, np.float32)
    gaps, losses = 0.0, 0.0
    for i in order:
        if cost[i] == _ZERO:
            continue
        half = penalty / (np.float32(2) * cost[i])
        for j in range(wide):
            s[j] = W[last, j]
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            if scaled:
                for j in range(k):
                    s[j] += v * scale[r, j] * W[r, j]
            else:
                for j in range(wide):
                    s[j] += v * W[r, j]
        moved, gap, loss = _ZERO, _ZERO, _ZERO
        shared = _F32_ONE / (squares[i, 0] + bias + half)
        for j in range(k):
            sign = np.float32(2) * own[i, j] - _F32_ONE
            a, short = dual[i, j], _F32_ONE - sign * s[j]
            above = max(short, _ZERO)
            loss += above * above
            gap += above * above - np.float32(2) * half * a * short + half * half * a * a
            curvature = _F32_ONE / (squares[i, j] + bias + half) if per_label else shared
            new = max(a + (short - half * a) * curvature, _ZERO)
            d[j] = (new - a) * sign
            moved += abs(d[j])
            dual[i, j] = new
        gaps += cost[i] * gap
        losses += cost[i] * loss
        if moved == _ZERO:
            continue
        for j in range(k):
            W[last, j] += bias * d[j]
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            if scaled:
                for j in range(k):
                    W[r, j] += v * scale[r, j] * d[j]
            else:
                for j in range(wide):
                    W[r, j] += v * d[j]
    return gaps, losses


@compiled
def squares_pass(data, dual, W, order, penalties):  # type: ignore[no-untyped-def]
    """(y − s)² for each label. Steps are exact (Saunders, Gammerman & Vovk 1998 for the dual of ridge regression)."""
    ptr, idx, dat, own, cost, squares, _ = data
    penalty, bias = penalties
    k, wide, last = dual.shape[1], W.shape[1], W.shape[0] - 1
    s, d = np.zeros(wide, np.float32), np.zeros(wide, np.float32)
    gaps, losses = 0.0, 0.0
    for i in order:
        if cost[i] == _ZERO:
            continue
        half = penalty / (np.float32(2) * cost[i])
        curvature = squares[i, 0] + bias + half
        for j in range(wide):
            s[j] = W[last, j]
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            for j in range(wide):
                s[j] += v * W[r, j]
        gap, loss = _ZERO, _ZERO
        for j in range(k):
            sign = np.float32(2) * own[i, j] - _F32_ONE
            short = _F32_ONE - sign * s[j]
            loss += short * short
            gap += (short - half * dual[i, j]) * (short - half * dual[i, j])
            change = (short - half * dual[i, j]) / curvature
            dual[i, j] += change
            d[j] = change * sign
            W[last, j] += bias * d[j]
        gaps += cost[i] * gap
        losses += cost[i] * loss
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            for j in range(wide):
                W[r, j] += v * d[j]
    return gaps, losses


@compiled
def logistic_pass(data, dual, W, order, penalties):  # type: ignore[no-untyped-def]
    """ln(1 + exp(−y s)) for each label (the dual of Yu, Huang & Lin 2011). α is cost · σ(t) / penalty; Newton's method finds t,
    in which the slope of the dual is at least 1 everywhere."""
    ptr, idx, dat, own, cost, squares, _ = data
    penalty, bias = penalties
    k, wide, last = dual.shape[1], W.shape[1], W.shape[0] - 1
    s, d = np.zeros(wide, np.float32), np.zeros(wide, np.float32)
    gaps, losses = 0.0, 0.0
    for i in order:
        if cost[i] == _ZERO:
            continue
        most = cost[i] / penalty
        size = squares[i, 0] + bias
        for j in range(wide):
            s[j] = W[last, j]
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            for j in range(wide):
                s[j] += v * W[r, j]
        gap, loss = _ZERO, _ZERO
        for j in range(k):
            sign = np.float32(2) * own[i, j] - _F32_ONE
            a, margin = dual[i, j], sign * s[j]
            share = min(max(a / most, np.float32(1e-7)), np.float32(1 - 1e-6))
            margin_loss = max(-margin, _ZERO) + np.float32(math.log1p(math.exp(-abs(margin))))
            loss += margin_loss
            turn = share * np.float32(math.log(share)) + (_F32_ONE - share) * np.float32(math.log(_F32_ONE - share))
            gap += max(margin_loss + turn + share * margin, _ZERO)
            now = np.float32(math.log(share)) - np.float32(math.log(_F32_ONE - share))
            low, high = max(min(now, -margin), -_FARTHEST), min(max(now, -margin), _FARTHEST)
            t = min(max(now, low), high)
            for _ in range(_INNER):  # the slope rises from low to high, through 0
                part = _F32_ONE / (_F32_ONE + np.float32(math.exp(-t)))
                slope = size * (most * part - a) + margin + t
                if slope > _ZERO:
                    high = t
                else:
                    low = t
                t -= slope / (size * most * part * (_F32_ONE - part) + _F32_ONE)
                if t < low or t > high:
                    t = _HALF * (low + high)
            new = most / (_F32_ONE + np.float32(math.exp(-t)))
            dual[i, j] = new
            d[j] = (new - a) * sign
            W[last, j] += bias * d[j]
        gaps += cost[i] * gap
        losses += cost[i] * loss
        for q in range(ptr[i], ptr[i + 1]):
            v, r = dat[q], idx[q]
            for j in range(wide):
                W[r, j] += v * d[j]
    return gaps, losses


PASSES = {"softmax": softmax_pass, "hinge": hinge_pass, "squares": squares_pass, "logistic": logistic_pass}
"""By the name that a loss gives."""
