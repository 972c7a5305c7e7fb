"""What a stay costs at Kelmere, by the tariff of the harbour."""

import datetime
import math
from typing import Annotated, Literal, TypedDict

SUMMER = (4, 9)  # the months in which the summer rate holds, both with them
RATES = {"summer": 1.6, "winter": 1.1}

Metres = Annotated[float, {"exclusiveMinimum": 0, "maximum": 200}, "Length of the vessel in metres."]
Money = Annotated[float, {"exclusiveMinimum": 0}]
Season = Literal["summer", "winter"]


class Dues(TypedDict):
    total: float
    currency: str
    rate: float
    light_dues: float


# effect: read
def reckon_dues(length_m: Metres, nights: Annotated[int, {"minimum": 1, "maximum": 60}], season: Season = "summer") -> Dues:
    """Work out what a stay costs in harbour dues, by length of the vessel and number of nights.

    Args:
        nights: How many nights it stays.
        season: The tariff's season; summer by default.
    """
    rate = RATES[season] + (0.5 if length_m > 24 else 0)
    light = 18 if length_m > 12 else 9
    print("rate", rate)
    return {"total": _cents(length_m * nights * rate + light), "currency": "EUR", "rate": rate, "light_dues": light}


# effect: read
def season_of(day: datetime.date) -> Season:
    """Tell in which season of the tariff a day is, when a stay is not in the present season.

    Args:
        day: The day, such as 2026-05-08.
    """
    return "summer" if SUMMER[0] <= day.month <= SUMMER[1] else "winter"


# effect: read
def split_dues(total: Money, parts: Annotated[int, {"minimum": 2, "maximum": 12}]) -> list[float]:
    """Split an amount into instalments that add up to the cent, when somebody asks to pay in parts.

    Args:
        total: The amount in EUR.
        parts: How many instalments.
    """
    whole = round(total * 100)
    return [(whole // parts + (1 if n < whole % parts else 0)) / 100 for n in range(parts)]


# effect: read
def late_fee(total: Money, due: datetime.date, paid: datetime.date) -> float:
    """Tell the surcharge on dues that are paid after their day, in EUR; 0 where they are in time.

    Args:
        total: The dues in EUR.
        due: The day by which they had to be paid.
        paid: The day on which they are.
    """
    if paid < due:
        return 0
    weeks = math.ceil((paid - due).days / 7)
    return _cents(total * min(0.02 * weeks, 0.3))


def _cents(amount):
    return math.floor(amount * 100 + 0.5) / 100
