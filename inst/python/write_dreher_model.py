"""Writes a scikit-learn model as a file that read_model() of the R package dreher reads.

    from write_dreher_model import write_dreher_model
    write_dreher_model(model, "model.json", rows=X_test)

or, for a model saved with joblib or pickle and rows in a CSV file (only files you trust: they can
hold code):

    python3 write_dreher_model.py model.joblib model.json rows.csv

It needs nothing but scikit-learn itself. Read are decision trees, extra trees, random forests,
gradient boosting, histogram gradient boosting, linear and logistic regressions, alone or at the end
of a Pipeline whose other steps are a ColumnTransformer, SimpleImputer, StandardScaler,
MinMaxScaler, OneHotEncoder or OrdinalEncoder. With `rows` (the predictors as the model takes them)
the file holds what the model predicts for some of them, and the reader compares.
"""
import json
import sys

import numpy as np

LARGEST = 1.7976931348623157e308


def write_dreher_model(model, file, rows=None, most_rows=200):
    """model: a fitted estimator or Pipeline. rows: a data frame or array of predictors."""
    *steps, last = _steps(model)
    names = _input_names(model, rows)
    made = _made_of(steps, names)
    out = {"format": "dreher model", "version": 1, "made_by": _made_by(last)}
    out.update(_estimator(last, [m["column"] for m in made]))
    if any(_is_changed(m) for m in made):
        out["made"] = made
    if rows is not None:
        out["check"] = _check(model, rows, names, out["task"], most_rows)
    with open(file, "w", encoding="utf-8") as f:
        json.dump(out, f, allow_nan=False)
    return file


def _steps(model):
    return [s for _, s in model.steps] if hasattr(model, "steps") else [model]


def _made_by(model):
    import sklearn

    return "scikit-learn %s %s" % (sklearn.__version__, type(model).__name__)


def _input_names(model, rows):
    known = getattr(model, "feature_names_in_", None)
    if known is None and hasattr(rows, "columns"):
        known = rows.columns
    if known is not None:
        return [str(n) for n in known]
    return ["x%d" % (j + 1) for j in range(_steps(model)[0].n_features_in_)]


# --- columns made of the user's ---------------------------------------------------------------
#
# One dict a column of the estimator: `column` its name, `from` the user's column; in this order:
# `fill` for gaps, `codes` (values in the order of their numbers from 0), `equals` (1 where the
# value is it), `minus`, `over` and `times`. `unknown`: "refuse" or "zero" for values never seen.


def _made_of(steps, names):
    made = [{"column": n, "from": n} for n in names]
    for step in steps:
        made = _through(step, made)
    return made


def _is_changed(m):
    return len(m) > 2 or m["column"] != m["from"]


def _through(step, made):
    if step is None or step == "passthrough":
        return made
    kind = type(step).__name__
    if kind == "Pipeline":
        for _, inner in step.steps:
            made = _through(inner, made)
        return made
    if kind == "ColumnTransformer":
        return _through_columns(step, made)
    if kind == "SimpleImputer":
        return _through_imputer(step, made)
    if kind == "StandardScaler":
        minus = step.mean_ if step.with_mean else np.zeros(len(made))
        over = step.scale_ if step.with_std else np.ones(len(made))
        return [_scaled(m, minus[j], over[j], 1.0) for j, m in enumerate(made)]
    if kind == "MinMaxScaler":
        if step.clip:
            raise ValueError("MinMaxScaler(clip=True) is not read")
        return [_ranged(m, step.scale_[j], step.min_[j]) for j, m in enumerate(made)]
    if kind == "OneHotEncoder":
        return _through_one_hot(step, made)
    if kind == "OrdinalEncoder":
        return _through_ordinal(step, made)
    # what newer versions put where columns pass through
    if kind == "FunctionTransformer" and step.func is None:
        return made
    raise ValueError("a step of class %s is not read" % kind)


def _through_columns(step, made):
    by_name = {m["column"]: m for m in made}
    out = []
    for name, inner, columns in step.transformers_:
        if inner == "drop":
            continue
        taken = _taken(columns, made, by_name)
        if taken:
            out.extend(_through(inner, taken))
    return out


def _taken(columns, made, by_name):
    if isinstance(columns, slice):
        return made[columns]
    if isinstance(columns, str):
        columns = [columns]
    columns = list(columns)
    if columns and all(isinstance(c, (bool, np.bool_)) for c in columns):
        return [m for m, take in zip(made, columns) if take]
    return [by_name[c] if isinstance(c, str) else made[int(c)] for c in columns]


def _plain(m, *later):
    """Only what stands before these in the order of the steps has been done to the column."""
    if any(key in m for key in later):
        raise ValueError("the steps before column %s come in an order that is not read" % m["column"])
    return dict(m)


def _through_imputer(step, made):
    if step.add_indicator:
        raise ValueError("SimpleImputer(add_indicator=True) is not read")
    out = []
    for j, m in enumerate(made):
        m = _plain(m, "codes", "equals", "minus", "times")
        fill = step.statistics_[j]
        if isinstance(fill, float) and np.isnan(fill):
            continue  # a column of gaps alone is dropped
        m["fill"] = _json_value(fill)
        out.append(m)
    return out


def _scaled(m, minus, over, times):
    m = _plain(m, "minus", "times")
    m.update({"minus": float(minus), "over": float(over)})
    return m


def _ranged(m, times, plus):
    m = _plain(m, "minus", "times")
    m.update({"times": float(times), "plus": float(plus)})
    return m


def _json_value(x):
    if isinstance(x, (bool, np.bool_)):
        return str(bool(x))
    if isinstance(x, (int, float, np.integer, np.floating)):
        return float(x)
    return str(x)


def _categories(step, j):
    known = [c for c in step.categories_[j]]
    if any(c is None or (isinstance(c, float) and np.isnan(c)) for c in known):
        raise ValueError("an encoder that takes gaps for a category is not read")
    return [_text(c) for c in known]


def _text(x):
    if isinstance(x, (float, np.floating)) and float(x).is_integer():
        return str(int(x))
    return str(x)


def _through_one_hot(step, made):
    if getattr(step, "_infrequent_enabled", False):
        raise ValueError("OneHotEncoder with infrequent categories is not read")
    unknown = "refuse" if step.handle_unknown == "error" else "zero"
    out = []
    for j, m in enumerate(made):
        m = _plain(m, "codes", "equals", "minus", "times")
        known = _categories(step, j)
        gone = None if step.drop_idx_ is None else step.drop_idx_[j]
        for k, value in enumerate(known):
            if gone is not None and k == gone:
                continue
            one = dict(m)
            one.update({"column": "%s=%s" % (m["column"], value), "equals": value,
                        "levels": known, "unknown": unknown})
            out.append(one)
    return out


def _through_ordinal(step, made):
    out = []
    for j, m in enumerate(made):
        m = _plain(m, "codes", "equals", "minus", "times")
        m["codes"] = _categories(step, j)
        m["unknown"] = "refuse"
        if step.handle_unknown == "use_encoded_value":
            if isinstance(step.unknown_value, float) and np.isnan(step.unknown_value):
                m["unknown"] = "gap"
            else:
                m["unknown"] = "value"
                m["unknown_value"] = float(step.unknown_value)
        out.append(m)
    return out


# --- estimators -------------------------------------------------------------------------------


def _estimator(model, columns):
    kind = type(model).__name__
    out = {"columns": columns}
    classes = getattr(model, "classes_", None)
    if classes is not None and np.ndim(classes) != 1:
        raise ValueError("models of several targets are not read")
    if getattr(model, "n_outputs_", 1) != 1:
        raise ValueError("models of several targets are not read")
    out["task"] = "regression" if classes is None else "classification"
    if classes is not None:
        out["classes"] = [_text(c) for c in classes]
    if kind.startswith("HistGradientBoosting"):
        out.update(_histogram_boosting(model))
    elif kind.startswith("GradientBoosting"):
        out.update(_gradient_boosting(model))
    elif kind in ("DecisionTreeRegressor", "DecisionTreeClassifier", "ExtraTreeRegressor",
                  "ExtraTreeClassifier"):
        out.update(_parallel_trees([model]))
    elif kind in ("RandomForestRegressor", "RandomForestClassifier", "ExtraTreesRegressor",
                  "ExtraTreesClassifier"):
        out.update(_parallel_trees(model.estimators_))
    elif hasattr(model, "coef_"):
        out.update(_linear(model, kind))
    else:
        raise ValueError("models of class %s are not read" % kind)
    return out


def _parallel_trees(trees):
    n = len(trees)
    return {"kind": "trees", "link": "identity", "single": True,
            "gaps": any(_takes_gaps(t.tree_) for t in trees),
            "base": [0.0] * trees[0].tree_.value.shape[1 if _is_regression(trees[0]) else 2],
            "weight": [1.0 / n] * n, "trees": [_tree(t) for t in trees]}


def _is_regression(tree):
    return not hasattr(tree, "classes_")


def _takes_gaps(t):
    return hasattr(t, "missing_go_to_left") and bool(np.any(t.missing_go_to_left))


def _tree(tree, output=0, outputs=1, scale=1.0):
    """Of a tree's nodes, root first; values are outputs x nodes."""
    t = tree.tree_
    leaf = t.children_left < 0
    left = np.where(leaf, 0, t.children_left)
    right = np.where(leaf, 0, t.children_right)
    goes_left = getattr(t, "missing_go_to_left", np.zeros(t.node_count, dtype=bool))
    value = t.value[:, 0, :]
    if not _is_regression(tree):
        value = value / value.sum(axis=1, keepdims=True)
    if outputs > 1:
        wide = np.zeros((t.node_count, outputs))
        wide[:, output] = value[:, 0]
        value = wide
    value = value * scale
    n = t.weighted_n_node_samples
    gain = np.zeros(t.node_count)
    inner = ~leaf
    gain[inner] = (n[inner] * t.impurity[inner]
                   - n[left[inner]] * t.impurity[left[inner]]
                   - n[right[inner]] * t.impurity[right[inner]])
    return {"column": np.where(leaf, -1, t.feature).tolist(),
            "threshold": np.where(leaf, 0.0, t.threshold).tolist(),
            "left": left.tolist(), "right": right.tolist(),
            "missing": np.where(leaf, 0, np.where(goes_left, left, right)).tolist(),
            "value": value.T.tolist(), "gain": gain.tolist()}


def _gradient_boosting(model):
    start = type(model.init_).__name__
    if start not in ("DummyRegressor", "DummyClassifier") and model.init_ != "zero":
        raise ValueError("gradient boosting that starts from a model of its own is not read")
    width = model.n_features_in_
    base = np.asarray(model._raw_predict_init(np.zeros((1, width), dtype=np.float32)))[0]
    rounds, outputs = model.estimators_.shape
    trees, group = [], []
    for i in range(rounds):
        for k in range(outputs):
            trees.append(_tree(model.estimators_[i, k], k, outputs, model.learning_rate))
            group.append(k)
    link, stretch = _boosted_link(model, outputs)
    return {"kind": "trees", "link": link, "stretch": stretch, "single": True, "gaps": False,
            "base": [float(b) for b in base], "weight": [1.0] * len(trees), "trees": trees,
            "boosted": {"round": [i // outputs for i in range(len(trees))], "group": group,
                        "loss": _loss(model.loss)}}


def _loss(name):
    return {"squared_error": "squared", "ls": "squared"}.get(name, "other")


def _boosted_link(model, outputs):
    if not hasattr(model, "classes_"):
        if model.loss == "poisson" or model.loss == "gamma":
            return "log", 1.0
        return "identity", 1.0
    if outputs > 1:
        return "softmax", 1.0
    return "logit", 2.0 if model.loss == "exponential" else 1.0


def _histogram_boosting(model):
    place = _places_of_columns(model)
    trees, rounds, group = [], [], []
    sets = {}
    outputs = model.n_trees_per_iteration_
    for i, row in enumerate(model._predictors):
        for k, predictor in enumerate(row):
            trees.append(_binned_tree(predictor, model, k, outputs, sets, place))
            rounds.append(i)
            group.append(k)
    link, stretch = _boosted_link(model, outputs)
    base = np.ravel(model._baseline_prediction)
    out = {"kind": "trees", "link": link, "stretch": stretch, "single": False, "gaps": True,
           "base": [float(b) for b in base], "weight": [1.0] * len(trees), "trees": trees,
           "boosted": {"round": rounds, "group": group, "loss": _loss(model.loss)}}
    if sets:
        out["levels"] = [{"column": int(j), "levels": [str(c) for c in known]}
                         for j, known in sorted(sets.items())]
    return out


def _places_of_columns(model):
    """Where the columns of the trees stand among those given: newer versions put columns of
    categories first, and code them anew."""
    coder = getattr(model, "_preprocessor", None)
    if coder is None:
        return np.arange(model.n_features_in_)
    place = []
    for _, inner, columns in coder.transformers_:
        columns = np.asarray(columns)
        place.extend(np.flatnonzero(columns) if columns.dtype == bool else columns)
        for known in getattr(inner, "categories_", []):
            codes = [c for c in known if not (isinstance(c, float) and np.isnan(c))]
            if codes != list(range(len(codes))):
                raise ValueError("histogram boosting on categories that are not 0, 1, 2 and so on "
                                 "is not read: put an OrdinalEncoder before it")
    return np.asarray(place, dtype=int)


def _binned_tree(predictor, model, output, outputs, sets, place):
    nodes = predictor.nodes
    leaf = nodes["is_leaf"].astype(bool)
    left = np.where(leaf, 0, nodes["left"]).astype(int)
    right = np.where(leaf, 0, nodes["right"]).astype(int)
    cuts = np.minimum(np.where(leaf, 0.0, nodes["num_threshold"]), LARGEST)
    cuts = np.where(np.isnan(cuts), 0.0, cuts)
    value = np.zeros((outputs, len(nodes)))
    value[output] = nodes["value"]
    column = np.where(leaf, -1, place[np.where(leaf, 0, nodes["feature_idx"]).astype(int)])
    tree = {"column": column.tolist(),
            "threshold": cuts.tolist(), "left": left.tolist(), "right": right.tolist(),
            "missing": np.where(leaf, 0, np.where(nodes["missing_go_to_left"].astype(bool),
                                                  left, right)).tolist(),
            "value": value.tolist(),
            "gain": np.where(leaf, 0.0, np.maximum(nodes["gain"], 0.0)).tolist()}
    asks = np.flatnonzero(~leaf & nodes["is_categorical"].astype(bool))
    if len(asks):
        tree["set"] = [_set_of(predictor, model, nodes[i], int(i), sets, place) for i in asks]
    return tree


def _set_of(predictor, model, node, at, sets, place):
    j = int(node["feature_idx"])
    known = [int(c) for c in model._bin_mapper.bin_thresholds_[j]]
    sets[int(place[j])] = known
    bits = predictor.raw_left_cat_bitsets[int(node["bitset_idx"])]
    side = [-1 if (int(bits[c // 32]) >> (c % 32)) & 1 else 1 for c in known]
    return {"node": at, "side": side}


def _linear(model, kind):
    weights = np.atleast_2d(np.asarray(model.coef_, dtype=float))
    intercept = np.atleast_1d(np.asarray(model.intercept_, dtype=float))
    if intercept.size == 1:
        intercept = np.repeat(intercept, weights.shape[0])
    link = "identity"
    if hasattr(model, "classes_"):
        if kind not in ("LogisticRegression", "LogisticRegressionCV"):
            raise ValueError("linear classifiers of class %s are not read" % kind)
        several = len(model.classes_) > 2
        one_by_one = getattr(model, "multi_class", "auto") == "ovr" or model.solver == "liblinear"
        if several and one_by_one:
            raise ValueError("logistic regressions fitted one class against the rest are not read")
        if getattr(model, "multi_class", "auto") == "multinomial" and not several:
            weights, intercept = 2 * weights, 2 * intercept
        link = "softmax" if several else "logit"
    elif kind in ("PoissonRegressor", "GammaRegressor", "TweedieRegressor"):
        link = "identity" if getattr(model, "link", "auto") == "identity" else "log"
        if kind == "TweedieRegressor" and getattr(model, "link", "auto") == "auto":
            link = "identity" if model.power <= 0 else "log"
    elif weights.shape[0] != 1:
        raise ValueError("models of several targets are not read")
    return {"kind": "linear", "link": link, "intercept": intercept.tolist(),
            "weights": weights.tolist()}


# --- what the model says ----------------------------------------------------------------------


def _check(model, rows, names, task, most):
    rows = rows.iloc[:most] if hasattr(rows, "iloc") else np.asarray(rows)[:most]
    said = model.predict(rows) if task == "regression" else model.predict_proba(rows)
    said = np.asarray(said, dtype=float).reshape(len(rows), -1)
    columns = []
    for j in range(len(names)):
        x = rows.iloc[:, j] if hasattr(rows, "iloc") else rows[:, j]
        columns.append([_cell(v) for v in x])
    return {"names": names, "rows": columns, "predictions": said.T.tolist()}


def _cell(x):
    if x is None or (isinstance(x, (float, np.floating)) and np.isnan(x)):
        return ""
    if isinstance(x, (bool, np.bool_, str)):
        return str(x)
    return repr(float(x))


if __name__ == "__main__":
    if len(sys.argv) not in (3, 4):
        sys.exit(__doc__)
    try:
        import joblib

        fitted = joblib.load(sys.argv[1])
    except ImportError:
        import pickle

        with open(sys.argv[1], "rb") as f:
            fitted = pickle.load(f)
    table = None
    if len(sys.argv) == 4:
        import pandas

        table = pandas.read_csv(sys.argv[3])
        known = getattr(fitted, "feature_names_in_", None)
        if known is not None:
            table = table[list(known)]
    write_dreher_model(fitted, sys.argv[2], rows=table)
