# Models of scikit-learn as ONNX files, by the format's own package; what they predict; and a server
# that predicts. Called by test-model-onnx.R: write_onnx.py FOLDER, which holds tiles.csv.
import os
import socket
import struct
import sys

import numpy as np
import pandas as pd
from onnx import TensorProto, helper, numpy_helper
from sklearn import compose, ensemble, linear_model, pipeline, preprocessing, tree

folder = sys.argv[1]
rows = pd.read_csv(os.path.join(folder, "tiles.csv"))
numbers = ["peak_temp", "hold_minutes", "drying_humidity", "grog_share"]
x = rows[numbers].to_numpy().astype(np.float32).astype(float)
y = rows.strength.to_numpy()
two = np.where(y > 38, "high", "low")


def cut(threshold, double):
    """A threshold that parts singles as the given double does."""
    if double or np.float32(threshold) <= threshold:
        return float(threshold) if double else float(np.float32(threshold))
    return float(np.nextafter(np.float32(threshold), np.float32(-np.inf)))


def node_lists(trees, scale, leaves, double):
    """Attributes of a tree ensemble. leaves: function(tree, node) -> [(output, value)]"""
    keys = ["treeids", "nodeids", "featureids", "values", "modes", "truenodeids", "falsenodeids"]
    out = {"nodes_" + k: [] for k in keys}
    ends = {"treeids": [], "nodeids": [], "ids": [], "weights": []}
    for t, grown in enumerate(trees):
        for i in range(grown.node_count):
            leaf = grown.children_left[i] < 0
            entry = [
                t, i, 0 if leaf else int(grown.feature[i]),
                0.0 if leaf else cut(grown.threshold[i], double), "LEAF" if leaf else "BRANCH_LEQ",
                0 if leaf else int(grown.children_left[i]),
                0 if leaf else int(grown.children_right[i]),
            ]
            for k, value in zip(keys, entry):
                out["nodes_" + k].append(value)
            for k, value in leaves(grown, i) if leaf else []:
                ends["treeids"].append(t)
                ends["nodeids"].append(i)
                ends["ids"].append(k)
                ends["weights"].append(value * scale)
    return out, ends


def with_doubles(attributes, double):
    if not double:
        return attributes
    out = {}
    for name, value in attributes.items():
        if len(value) and isinstance(value[0], float):
            out[name + "_as_tensor"] = numpy_helper.from_array(np.array(value), name)
        else:
            out[name] = value
    return out


def ensemble_node(kind, trees, scale, leaves, double=False, source="X", **more):
    nodes, ends = node_lists(trees, scale, leaves, double)
    word = "class" if kind == "TreeEnsembleClassifier" else "target"
    given = dict(nodes, **{word + "_" + k: v for k, v in ends.items()})
    given = with_doubles(given, double)
    given.update(more)
    results = ["label", "shares"] if word == "class" else ["value"]
    return helper.make_node(kind, [source], results, "model", domain="ai.onnx.ml", **given)


def write(name, nodes, inputs, predictions, result="value", constants=()):
    graph = helper.make_graph(
        nodes, name, inputs,
        [helper.make_tensor_value_info(result, TensorProto.FLOAT, [None, None])], list(constants))
    opsets = [helper.make_opsetid("", 15), helper.make_opsetid("ai.onnx.ml", 3)]
    model = helper.make_model(graph, producer_name="tests", opset_imports=opsets)
    with open(os.path.join(folder, name + ".onnx"), "wb") as file:
        file.write(model.SerializeToString())
    np.savetxt(os.path.join(folder, name + ".txt"),
               np.asarray(predictions).reshape(len(rows), -1), fmt="%.17g")


def matrix(kind=TensorProto.FLOAT, width=len(numbers), name="X"):
    return helper.make_tensor_value_info(name, kind, [None, width])


def column(name, kind=TensorProto.FLOAT):
    return helper.make_tensor_value_info(name, kind, [None, 1])


def mean(grown, i):
    return [(0, float(grown.value[i].ravel()[0]))]


def shares(grown, i):
    counts = grown.value[i].ravel()
    return [(k, float(v / counts.sum())) for k, v in enumerate(counts)]


forest = ensemble.RandomForestRegressor(6, random_state=1).fit(x, y)
grown = [t.tree_ for t in forest.estimators_]
write("forest", [ensemble_node("TreeEnsembleRegressor", grown, 1 / 6, mean)], [matrix()],
      forest.predict(x))
write("average", [ensemble_node("TreeEnsembleRegressor", grown, 1.0, mean, True,
                                aggregate_function="AVERAGE")],
      [matrix(TensorProto.DOUBLE)], forest.predict(x))

votes = ensemble.RandomForestClassifier(5, random_state=1, max_depth=5).fit(x, rows.defect)
write("votes", [
    ensemble_node("TreeEnsembleClassifier", [t.tree_ for t in votes.estimators_], 1 / 5, shares,
                  classlabels_strings=list(votes.classes_), post_transform="NONE"),
    helper.make_node("ZipMap", ["shares"], ["zipped"], domain="ai.onnx.ml",
                     classlabels_strings=list(votes.classes_)),
], [matrix()], votes.predict_proba(x), "zipped")

boosted = ensemble.GradientBoostingRegressor(n_estimators=8, random_state=1).fit(x, y)
write("boosted", [ensemble_node(
    "TreeEnsembleRegressor", [t.tree_ for t in boosted.estimators_.ravel()], 0.1, mean,
    base_values=[float(y.mean())])], [matrix()], boosted.predict(x))

logistic = ensemble.GradientBoostingClassifier(n_estimators=5, random_state=1).fit(x, two)
share = (two == "low").mean()
write("logistic", [ensemble_node(
    "TreeEnsembleClassifier", [t.tree_ for t in logistic.estimators_.ravel()], 0.1, mean,
    base_values=[float(np.log(share / (1 - share)))], classlabels_strings=list(logistic.classes_),
    post_transform="LOGISTIC")], [matrix()], logistic.predict_proba(x), "shares")

single = tree.DecisionTreeClassifier(max_depth=3).fit(x, two)
write("tree", [
    helper.make_node("Cast", ["X"], ["Z"], to=TensorProto.FLOAT),
    ensemble_node("TreeEnsembleClassifier", [single.tree_], 1.0, shares, source="Z",
                  classlabels_strings=list(single.classes_), post_transform="NONE"),
], [matrix(TensorProto.DOUBLE)], single.predict_proba(x), "shares")

# linear models behind steps, on columns of their own
scaler = preprocessing.StandardScaler().fit(x)
kinds = sorted(rows.clay_source.unique())
hot = np.array([[float(v == k) for k in kinds] for v in rows.clay_source])
made = np.hstack([scaler.transform(x), hot])
steps = [
    helper.make_node("Concat", numbers, ["all"], axis=1),
    helper.make_node("Scaler", ["all"], ["scaled"], domain="ai.onnx.ml",
                     offset=scaler.mean_.tolist(), scale=(1 / scaler.scale_).tolist()),
    helper.make_node("OneHotEncoder", ["clay_source"], ["hot"], domain="ai.onnx.ml",
                     cats_strings=kinds, zeros=0),
    helper.make_node("FeatureVectorizer", ["scaled", "hot"], ["made"], domain="ai.onnx.ml",
                     inputdimensions=[len(numbers), len(kinds)]),
]
inputs = [column(n) for n in numbers] + [column("clay_source", TensorProto.STRING)]
ridge = linear_model.Ridge().fit(made, y)
write("ridge", steps + [helper.make_node(
    "LinearRegressor", ["made"], ["value"], "model", domain="ai.onnx.ml",
    coefficients=ridge.coef_.tolist(), intercepts=[float(ridge.intercept_)])],
    inputs, ridge.predict(made))


def classifier(fit, weights, intercepts, after):
    return helper.make_node(
        "LinearClassifier", ["made"], ["label", "raw"], "model", domain="ai.onnx.ml",
        coefficients=weights.ravel().tolist(), intercepts=intercepts.tolist(),
        classlabels_strings=list(fit.classes_), post_transform=after)


line = linear_model.LogisticRegression(max_iter=1000).fit(made, two)
write("line", steps + [
    classifier(line, np.vstack([-line.coef_, line.coef_]),
               np.hstack([-line.intercept_, line.intercept_]), "LOGISTIC"),
    helper.make_node("Normalizer", ["raw"], ["shares"], domain="ai.onnx.ml", norm="L1"),
], inputs, line.predict_proba(made), "shares")
several = linear_model.LogisticRegression(max_iter=1000).fit(made, rows.defect)
write("several", steps + [classifier(several, several.coef_, several.intercept_, "SOFTMAX")],
      inputs, several.predict_proba(made), "raw")

# four ways to ask whether x is at, below or above 2; the first two send gaps to the true side
modes = ["BRANCH_LEQ", "BRANCH_LT", "BRANCH_GT", "BRANCH_GTE"]
asked = helper.make_node(
    "TreeEnsembleRegressor", ["X"], ["value"], "model", domain="ai.onnx.ml",
    nodes_treeids=np.repeat(range(4), 3).tolist(), nodes_nodeids=[7, 5, 6] * 4,
    nodes_featureids=[0] * 12, nodes_values=[2.0, 0.0, 0.0] * 4,
    nodes_modes=sum([[m, "LEAF", "LEAF"] for m in modes], []),
    nodes_truenodeids=[6, 0, 0] * 4, nodes_falsenodeids=[5, 0, 0] * 4,
    nodes_missing_value_tracks_true=[1, 0, 0] * 2 + [0] * 6,
    target_treeids=[0, 1, 2, 3], target_nodeids=[6] * 4, target_ids=[0] * 4,
    target_weights=[1.0, 10.0, 100.0, 1000.0])
write("asked", [asked], [matrix(width=1)], np.zeros(len(rows)))

# what is refused
write("least", [ensemble_node("TreeEnsembleRegressor", grown, 1.0, mean,
                              aggregate_function="MIN")], [matrix()], y)
write("changed", [ensemble_node("TreeEnsembleRegressor", grown, 1.0, mean),
                  helper.make_node("Exp", ["value"], ["risen"])], [matrix()], y, "risen")
write("strange", [helper.make_node("Softmax", ["X"], ["Z"]),
                  ensemble_node("TreeEnsembleRegressor", grown, 1.0, mean, source="Z")],
      [matrix()], y)

for name, shape in [("shaped", [-1, len(numbers)]), ("turned", [-1, 1])]:
    write(name, [
        helper.make_node("Reshape", ["X", "shape"], ["Z"]),
        ensemble_node("TreeEnsembleRegressor", grown, 1 / 6, mean, source="Z"),
    ], [matrix()], forest.predict(x), constants=[numpy_helper.from_array(np.array(shape), "shape")])

# the forest as documented JSON, and in a process that runs
sys.path.insert(0, sys.argv[2])
from write_dreher_model import write_dreher_model  # noqa: E402

plain = ensemble.RandomForestRegressor(6, random_state=1).fit(pd.DataFrame(x, columns=numbers), y)
write_dreher_model(plain, os.path.join(folder, "forest.json"), rows=rows[numbers])

# a linear model behind steps as documented JSON
parts = compose.ColumnTransformer([
    ("n", preprocessing.StandardScaler(), numbers),
    ("c", preprocessing.OneHotEncoder(), ["clay_source"])])
piped = pipeline.Pipeline([("a", parts), ("m", linear_model.Ridge())])
piped.fit(rows[numbers + ["clay_source"]], y)
write_dreher_model(piped, os.path.join(folder, "pipeline.json"), rows=rows[numbers + ["clay_source"]])
if len(sys.argv) > 3:
    server = socket.socket()
    server.bind(("127.0.0.1", 0))
    server.listen(1)
    with open(os.path.join(folder, "port.part"), "w") as file:
        file.write(str(server.getsockname()[1]))
    os.rename(os.path.join(folder, "port.part"), os.path.join(folder, "port"))
    server.settimeout(60)
    stream = server.accept()[0].makefile("rwb")
    while True:
        head = stream.read(8)
        if len(head) < 8:
            break
        n, p = struct.unpack("<ii", head)
        sent = np.frombuffer(stream.read(8 * n * p), "<f8").reshape(p, n).T
        stream.write(forest.predict(sent).astype("<f8").tobytes())
        stream.flush()
