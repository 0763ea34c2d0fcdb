"""Convolution layers and gradient descent in numpy, for the demo models: channels-last float32, one im2col product per convolution."""
import numpy as np

EPS = 1e-5


class Conv:
    """With batch normalisation, or (`norm` false) a bias."""

    def __init__(self, rng, cin, cout, k, stride, norm=True):
        self.w = (rng.standard_normal((k * k * cin, cout)) * np.sqrt(2.0 / (k * k * cin))).astype(np.float32)
        self.k, self.stride, self.cin = k, stride, cin
        self.gamma, self.beta = np.ones(cout, np.float32), np.zeros(cout, np.float32)
        self.mean, self.var = np.zeros(cout, np.float32), np.ones(cout, np.float32)
        self.norm = norm
        self.params = ["w", "gamma", "beta"] if norm else ["w", "beta"]

    def forward(self, x, train):
        n, h, w, c = x.shape
        k, s, p = self.k, self.stride, self.k // 2
        self.xshape = x.shape
        xp = np.pad(x, ((0, 0), (p, p), (p, p), (0, 0))) if p else x
        win = np.lib.stride_tricks.sliding_window_view(xp, (k, k), axis=(1, 2))[:, ::s, ::s]
        self.oh, self.ow = win.shape[1:3]
        self.cols = np.ascontiguousarray(win.transpose(0, 1, 2, 4, 5, 3)).reshape(-1, k * k * c)
        y = self.cols @ self.w
        if not self.norm:
            return (y + self.beta).reshape(n, self.oh, self.ow, -1)
        if train:
            m, v = y.mean(0), y.var(0)
            self.mean += 0.1 * (m - self.mean)
            self.var += 0.1 * (v - self.var)
        else:
            m, v = self.mean, self.var
        self.inv = 1 / np.sqrt(v + EPS)
        self.hat = (y - m) * self.inv
        return (self.hat * self.gamma + self.beta).reshape(n, self.oh, self.ow, -1)

    def backward(self, dy):
        dy = dy.reshape(-1, dy.shape[-1])
        self.dbeta = dy.sum(0)
        if self.norm:
            self.dgamma = (dy * self.hat).sum(0)
            d = self.gamma * self.inv * (dy - self.dbeta / len(dy) - self.hat * (self.dgamma / len(dy)))
        else:
            d = dy
        self.dw = self.cols.T @ d
        n, h, w, c = self.xshape
        k, s, p = self.k, self.stride, self.k // 2
        dcols = (d @ self.w.T).reshape(n, self.oh, self.ow, k, k, c)
        dx = np.zeros((n, h + 2 * p, w + 2 * p, c), np.float32)
        for i in range(k):
            for j in range(k):
                dx[:, i:i + s * self.oh:s, j:j + s * self.ow:s] += dcols[:, :, :, i, j]
        return dx[:, p:p + h, p:p + w]


class Descent:
    """Momentum with weight decay over the named parameters of some owners; a gradient of `p` is the owner's `dp`."""

    def __init__(self, owners, decay=2e-4):
        self.owners, self.decay = owners, decay
        self.speed = {(i, p): np.zeros_like(getattr(o, p)) for i, o in enumerate(owners) for p in o.params}

    def step(self, rate):
        for i, o in enumerate(self.owners):
            for name in o.params:
                grad = getattr(o, "d" + name) + (self.decay * getattr(o, name) if name in ("w", "fw") else 0)
                self.speed[i, name] = 0.9 * self.speed[i, name] - rate * grad
                setattr(o, name, (getattr(o, name) + self.speed[i, name]).astype(np.float32))


class Adam:
    """Adaptive moments (Kingma and Ba 2014), for nets without normalisation."""

    def __init__(self, owners):
        self.slots = [(o, p, np.zeros_like(getattr(o, p)), np.zeros_like(getattr(o, p))) for o in owners for p in o.params]
        self.steps = 0

    def step(self, rate):
        self.steps += 1
        for o, name, mean, square in self.slots:
            grad = getattr(o, "d" + name)
            mean += 0.1 * (grad - mean)
            square += 0.001 * (grad * grad - square)
            change = mean / (1 - 0.9 ** self.steps) / (np.sqrt(square / (1 - 0.999 ** self.steps)) + 1e-8)
            setattr(o, name, (getattr(o, name) - rate * change).astype(np.float32))


def reference_conv(layer, x):
    """Float64, channels first, written apart from the training code: direct sums over kernel taps."""
    k, s, p = layer.k, layer.stride, layer.k // 2
    w = layer.w.astype(np.float64).reshape(k, k, layer.cin, -1)
    xp = np.pad(x, ((0, 0), (0, 0), (p, p), (p, p)))
    oh, ow = (x.shape[2] + 2 * p - k) // s + 1, (x.shape[3] + 2 * p - k) // s + 1
    y = sum(np.einsum("nchw,co->nohw", xp[:, :, i:i + s * (oh - 1) + 1:s, j:j + s * (ow - 1) + 1:s], w[i, j])
            for i in range(k) for j in range(k))
    col = lambda v: v.astype(np.float64)[:, None, None]
    if not layer.norm:
        return y + col(layer.beta)
    return (y - col(layer.mean)) / np.sqrt(col(layer.var) + EPS) * col(layer.gamma) + col(layer.beta)


def export_conv(wire, layer, name, source, nodes, weights):
    """Adds the layer as exporters write it; gives the name of its result."""
    k = layer.k
    weights[name + ".weight"] = np.ascontiguousarray(layer.w.reshape(k, k, layer.cin, -1).transpose(3, 2, 0, 1))
    attributes = {"kernel_shape": [k, k], "strides": [layer.stride] * 2, "pads": [k // 2] * 4}
    if not layer.norm:
        weights[name + ".bias"] = layer.beta
        nodes.append(wire.node("Conv", [source, name + ".weight", name + ".bias"], [name + ".conv"], name + "/conv", **attributes))
        return name + ".conv"
    parts = ("gamma", "beta", "mean", "var")
    for part in parts:
        weights[f"{name}.{part}"] = getattr(layer, part).astype(np.float32)
    nodes.append(wire.node("Conv", [source, name + ".weight"], [name + ".conv"], name + "/conv", **attributes))
    nodes.append(wire.node("BatchNormalization", [name + ".conv"] + [f"{name}.{p}" for p in parts], [name + ".norm"],
                           name + "/norm", epsilon=EPS))
    return name + ".norm"
