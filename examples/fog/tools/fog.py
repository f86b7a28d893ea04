"""How far a light is seen through air that takes a part of it away.

Light of I candela gives I * exp(-sigma * d) / d**2 at the distance d; a lookout sees it where that is at least a threshold.
Distances are in km, thresholds in lux, extinctions sigma per km.
"""
import csv
import math

# Square metres in a square kilometre: candela over km**2 to lux.
SCALE = 1e6


def lights(path):
    """The lights of a table, with their candela."""
    with open(path) as file:
        return {row["light"]: float(row["candela"]) for row in csv.DictReader(file)}


def range_km(candela, sigma, threshold):
    """The distance at which a light falls to the threshold."""
    near, far = 1e-3, 1e3
    for _ in range(80):
        middle = (near + far) / 2
        if candela * math.exp(-sigma * middle) / middle**2 > threshold * SCALE:
            near = middle
        else:
            far = middle
    return near


def extinction(candela, km, threshold):
    """The extinction at which a light is seen just so far; none is below nothing."""
    return max(0.0, math.log(candela / (threshold * SCALE * km**2)) / km)


def check():
    """What must hold whatever the numbers are."""
    for candela in (100.0, 2500.0, 120000.0):
        for sigma in (0.0, 0.1, 2.0):
            km = range_km(candela, sigma, 2e-7)
            assert abs(extinction(candela, km, 2e-7) - sigma) < 1e-6, (candela, sigma, km)
        assert range_km(candela, 0.1, 2e-7) > range_km(candela, 0.2, 2e-7)
    print("the model holds")


if __name__ == "__main__":
    check()
