"""Checks exported models with the exchange standard's own checker and reference evaluator.

Usage: python3 verify.py FOLDER

FOLDER has files N.onnx, and beside each N.json with its inputs and the outputs that are wanted. Needs the standard's package:
pip install onnx
"""

import json
import pathlib
import sys

import numpy
import onnx
from onnx.reference import ReferenceEvaluator

TOLERANCE = 1e-5
KINDS = {1: numpy.float32, 7: numpy.int64, 9: numpy.bool_}


def tensor(given):
    numbers = [float(number) for number in given["numbers"]]
    return numpy.array(numbers).reshape(given["shape"]).astype(KINDS[given["kind"]])


def difference(name, found, wanted):
    if found.shape != wanted.shape or found.dtype != wanted.dtype:
        return float("inf")
    if name == "probabilities":
        found, wanted = numpy.log(found), numpy.log(wanted)
    same = found == wanted
    with numpy.errstate(invalid="ignore"):
        apart = numpy.where(same, 0.0, numpy.abs(found.astype(float) - wanted.astype(float)))
    return float(apart.max(initial=0.0))


def rectified(model):
    """Whether a model has rectified recurrent cells, which the standard has and its evaluator (1.23) does not know."""
    return any(node.op_type == "RNN" and b"Relu" in own.strings for node in model.graph.node for own in node.attribute)


def main(folder):
    numpy.seterr(divide="ignore")
    worst, count, wrong, only_checked = 0.0, 0, 0, 0
    for path in sorted(pathlib.Path(folder).glob("*.onnx"), key=lambda path: int(path.stem)):
        case = json.loads(path.with_suffix(".json").read_text())
        model = onnx.load(path)
        onnx.checker.check_model(model, full_check=True)
        if rectified(model):
            only_checked += 1
            continue
        names = [output.name for output in model.graph.output]
        inputs = {name: tensor(given) for name, given in case["inputs"].items()}
        found = ReferenceEvaluator(model).run(names, inputs)
        for name, one in zip(names, found):
            apart = difference(name, one, tensor(case["wanted"][name]))
            worst = max(worst, apart)
            if not apart < TOLERANCE:
                wrong += 1
                print(f"{case['name']}: {name} differs by {apart:.2e}")
        count += 1
    print(f"onnx {onnx.__version__}: {count} models checked and evaluated, greatest difference {worst:.2e}; {only_checked} only checked")
    return 1 if wrong or not count else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
