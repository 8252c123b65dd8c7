"""Scripts of the delay forecast: one adds the tide to the sailings, one trains the model, one reads the result."""

ADD_TIDE = b'''"""Adds to each sailing the height of the tide nearest to its departure."""

import pandas as pd

sailings = pd.read_csv("data/sailings.csv")
tides = pd.read_csv("data/tides.csv", usecols=["harbour", "moment", "height_m"])
tides["hour"] = tides["moment"].str.slice(0, 13)
sailings["hour"] = sailings["date"] + "T" + sailings["departs"].str.slice(0, 2)
near = sailings.merge(tides, how="left", left_on=["from_harbour", "hour"], right_on=["harbour", "hour"])
sailings["tide_height"] = near["height_m"].interpolate().round(2)
sailings.drop(columns=["hour"]).to_csv("data/sailings.csv", index=False)
'''

TRAIN = b'''"""Trains the delay forecast on sailings that were not cancelled."""

import pandas as pd
from forecast import fit, save

sailings = pd.read_csv("data/sailings.csv")
sailed = sailings[sailings["status"] == "sailed"]
model = fit(sailed[["passengers", "tide_height"]], sailed["delay_minutes"])
save(model, "models/delay-forecast.pmml")
'''

RISK_SQL = b"""-- Sailings at risk: late ones at low water, by harbour.
CREATE VIEW sailings_at_risk AS
SELECT s.sailing_id, s.from_harbour AS harbour, s.delay_minutes, t.height_m AS low_water
FROM sailings AS s
JOIN tides AS t ON t.harbour = s.from_harbour AND t.kind = 'low'
WHERE s.delay_minutes > 15;

SELECT harbour, count(*) AS at_risk, min(low_water) AS lowest
FROM sailings_at_risk
GROUP BY harbour;
"""
