"""The two steps of a BFGS minimiser that do not depend on what is minimised (Nocedal, Wright 2006, section 6.1)."""

from numba import njit

from tansy.engine.kernels.options import KERNEL


@njit(**KERNEL)
def descend(inverse_hessian, gradient, held, direction, longest):
    """Write the quasi-Newton direction among what is not `held`, no component longer than `longest`."""
    n = len(gradient)
    slope = 0.0
    for i in range(n):
        d = 0.0
        for j in range(n):
            if not held[i] and not held[j]:
                d -= inverse_hessian[i, j] * gradient[j]
        direction[i] = d
        slope += d * gradient[i]
    if not slope < 0.0:  # lost positive definiteness: start again from steepest descent
        for i in range(n):
            for j in range(n):
                inverse_hessian[i, j] = 1.0 if i == j else 0.0
            direction[i] = 0.0 if held[i] else -gradient[i]
    largest = 0.0
    for i in range(n):
        largest = max(largest, abs(direction[i]))
    if largest > longest:
        for i in range(n):
            direction[i] *= longest / largest


@njit(**KERNEL)
def learn_curvature(inverse_hessian, step, change, first):
    """Update the inverse Hessian in place from a step and the change of the gradient over it."""
    n = len(step)
    sy = 0.0
    yy = 0.0
    for i in range(n):
        sy += step[i] * change[i]
        yy += change[i] * change[i]
    if sy <= 1e-12 * yy or sy <= 0.0:
        return
    if first:
        for i in range(n):
            for j in range(n):
                inverse_hessian[i, j] = sy / yy if i == j else 0.0
    # H <- (I - s y'/sy) H (I - y s'/sy) + s s'/sy, written with z = H y
    z = inverse_hessian @ change
    yz = 0.0
    for i in range(n):
        yz += change[i] * z[i]
    for i in range(n):
        for j in range(n):
            inverse_hessian[i, j] += (1.0 + yz / sy) * step[i] * step[j] / sy - (z[i] * step[j] + step[i] * z[j]) / sy
