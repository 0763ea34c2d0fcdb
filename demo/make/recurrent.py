"""A gated recurrent layer in numpy, with gradients through time."""
import numpy as np


def sigmoid(x):
    return 1 / (1 + np.exp(-np.clip(x, -60, 60)))


class Gated:
    """`within` [inputs, 3 * width] and `again` [width, 3 * width]: gates reset, update, new, side by side in this order."""

    params = ["within", "again", "within_bias", "again_bias"]

    def __init__(self, normal, inputs, width):
        self.width = width
        self.within, self.again = normal(inputs, 3 * width), normal(width, 3 * width)
        self.within_bias, self.again_bias = np.zeros(3 * width, np.float32), np.zeros(3 * width, np.float32)

    def forward(self, x, h, dtype=np.float32):
        """x [steps, batch, inputs]; h [batch, width]. States after each step, [steps, batch, width]."""
        p = lambda name: getattr(self, name).astype(dtype)
        w, self.x, self.steps = self.width, x, []
        xi, again, bias = x @ p("within") + p("within_bias"), p("again"), p("again_bias")
        out = np.empty(x.shape[:2] + (w,), dtype)
        for t in range(len(x)):
            hi = h @ again + bias
            r, z = sigmoid(xi[t, :, :w] + hi[:, :w]), sigmoid(xi[t, :, w:2 * w] + hi[:, w:2 * w])
            n = np.tanh(xi[t, :, 2 * w:] + r * hi[:, 2 * w:])
            self.steps.append((h, hi, r, z, n))
            h = (1 - z) * n + z * h
            out[t] = h
        return out

    def backward(self, dx):
        """dx: gradient of the states after each step; gives that of x."""
        w, flat = self.width, lambda a: a.reshape(-1, a.shape[-1])
        dh, dxi = np.zeros(dx.shape[1:], np.float32), np.empty(self.x.shape[:2] + (3 * w,), np.float32)
        self.dagain, self.dagain_bias = np.zeros_like(self.again), np.zeros(3 * w, np.float32)
        for t in reversed(range(len(self.x))):
            h, hi, r, z, n = self.steps[t]
            dh = dh + dx[t]
            dn = dh * (1 - z) * (1 - n * n)
            dz = dh * (h - n) * z * (1 - z)
            dr = dn * hi[:, 2 * w:] * r * (1 - r)
            dhi = np.concatenate([dr, dz, dn * r], 1)
            dxi[t] = np.concatenate([dr, dz, dn], 1)
            self.dagain += h.T @ dhi
            self.dagain_bias += dhi.sum(0)
            dh = dh * z + dhi @ self.again.T
        self.dwithin, self.dwithin_bias = flat(self.x).T @ flat(dxi), flat(dxi).sum(0)
        return dxi @ self.within.T


def hold_back(owners, most=0.5):
    """Gradients no longer than this: long sequences push hard now and then."""
    for owner in owners:
        for name in owner.params:
            grad = getattr(owner, "d" + name)
            setattr(owner, "d" + name, grad * np.float32(min(1, most / (np.sqrt((grad * grad).sum()) + 1e-9))))
