"""Products, made and changed by hand."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, Field

from fair_ladle.app.data_import import usecases
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/products", "products", sees="products.change", changes="products.change")


class ProductFacts(BaseModel):
    """What is known of a product. ``components`` are codes, those that are always on with ! behind."""

    name: str = Field(max_length=200)
    vendor: str = Field("", max_length=200)
    measure: Literal["seat", "device", "session", "item", "storage"]
    unit: str = Field("", max_length=32, description="what one of it is called; empty = as the measure")
    family: str = Field("", max_length=64, description="of one family a person holds one")
    requires: list[str] = Field([], max_length=50, description="one of these products is needed besides")
    components: list[str] = Field([], max_length=100)
    successor: str = Field("", max_length=64)
    tax_class: str = Field("", max_length=64, description="empty = not taxed")
    idle: Literal["retained", "spread"] = "retained"
    """Whether unused stock is borne by the pool's owner, or spread over who uses it."""


class ProductBody(ProductFacts):
    """A product, and whether anything of it was ever bought."""

    code: str
    pooled: bool
    per_unit: int
    """Grains a unit."""


@routes.get("", response_model=list[ProductBody])
def every(db: Db, who: Who) -> Any:
    """Every product there is; the operator sees them."""
    return [
        {
            "code": each.code,
            "name": each.name,
            "vendor": each.vendor,
            "measure": each.measure,
            "unit": each.unit,
            "family": each.family or "",
            "requires": each.requires,
            "components": [f"{code}!" if code in each.mandatory else code for code in each.components],
            "successor": each.successor or "",
            "tax_class": each.tax_class or "",
            "idle": "spread" if each.spreads_idle else "retained",
            "pooled": pooled,
            "per_unit": each.per_unit,
        }
        for each, pooled in db.snapshot(usecases.every_product, who)
    ]


@routes.put("/{code}", status_code=204)
def put(code: str, body: ProductFacts, db: Db, who: Who, new: bool = False) -> None:
    """Make a product, or change what is known of it; how it is measured stays. ``new`` refuses one that is there."""
    cells = body.model_dump() | {"requires": ";".join(body.requires), "components": ";".join(body.components)}
    db.run(usecases.put_product, who, {"code": code, **cells}, new)
