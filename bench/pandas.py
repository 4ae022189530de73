"""The tasks of tasks.go with pandas: python3 pandas.py FOLDER ROWS TASK."""

import os
import sys

# This file's own name must not hide the package.
sys.path = [p for p in sys.path if os.path.abspath(p or ".") != os.path.dirname(os.path.abspath(__file__))]
import pandas as pd  # noqa: E402

folder, rows, task = sys.argv[1], sys.argv[2], sys.argv[3]
big = os.path.join(folder, f"stays_{rows}.csv")
kept = os.path.join(folder, f"stays_{rows}.pickle")


def read():
    return pd.read_csv(big, parse_dates=["arrived", "seen"])


def stays():
    """The rows as pandas keeps them best without further packages."""
    return pd.read_pickle(kept)


if task == "csv":
    read().to_pickle(kept)
elif task == "group":
    d = stays()
    d = d[(d.nights > 0) & (d.price > 20)].copy()
    d["total"] = d.nights * d.price
    d["month"] = d.arrived.dt.month
    d["long"] = d.nights > 7
    d["code"] = d.hut.str.upper()
    d["score"] = d.rating * 20
    d["left"] = d.arrived + pd.to_timedelta(d.nights, unit="D")
    d.groupby(["code", "month"]).agg(n=("id", "size"), total=("total", "sum"), score=("score", "mean"), last=("left", "max"), longs=("long", "sum")).to_csv(os.path.join(folder, "pb.csv"))
elif task == "join":
    d = stays().merge(pd.read_csv(os.path.join(folder, f"guests_{rows}.csv")), on="guest")
    d.groupby("born").agg(n=("id", "size"), nights=("nights", "sum")).to_csv(os.path.join(folder, "pc.csv"))
elif task == "sort":
    stays().sort_values(["hut", "price", "id"], ascending=[True, False, True]).to_pickle(os.path.join(folder, "pd.pickle"))
elif task == "unpivot":
    d = pd.read_csv(os.path.join(folder, "wide.csv")).melt(id_vars=["hut"])
    d.groupby("variable").agg(n=("value", "size"), total=("value", "sum")).to_csv(os.path.join(folder, "pe.csv"))
elif task == "window":
    d = stays()[["id", "hut", "price", "nights"]].sort_values(["hut", "price", "id"])
    d["r"] = d.groupby("hut").cumcount() + 1
    d["total"] = d.groupby("hut").nights.cumsum()
    d.groupby("hut").agg(r=("r", "max"), t=("total", "max")).to_csv(os.path.join(folder, "pf.csv"))
else:
    sys.exit(f"no task {task}")
