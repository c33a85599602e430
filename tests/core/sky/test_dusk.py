"""Whether it is dark at a site, against astropy and by hand."""

import datetime

import pytest
from astropy import units
from astropy.coordinates import AltAz, EarthLocation, get_sun
from astropy.time import Time

from wyntaxis.core.sky.dusk import is_dark, sun_altitude_deg
from wyntaxis.core.sky.earth import steady_rotation

SITES = [(47.30, 11.10), (-33.0, 151.0), (0.0, -78.0), (69.5, 18.9)]


@pytest.mark.parametrize("site", SITES)
def test_the_sun_stands_where_the_library_has_it(site):
    start = datetime.datetime(2026, 1, 3, 5, tzinfo=datetime.UTC).timestamp()
    moments = [start + 86400 * 13.7 * k for k in range(60)]
    place = EarthLocation(lat=site[0] * units.deg, lon=site[1] * units.deg)
    times = Time(moments, format="unix")
    steady_rotation()  # and nothing is fetched
    exact = get_sun(times).transform_to(AltAz(obstime=times, location=place)).alt.deg
    own = [sun_altitude_deg(moment, *site) for moment in moments]
    assert max(abs(a - b) for a, b in zip(own, exact, strict=True)) < 0.05


@pytest.mark.parametrize(
    ("clock", "dark"),
    [
        ("2026-06-21T11:15:00+00:00", False),  # local noon in June
        ("2026-06-21T23:15:00+00:00", True),
        ("2026-12-02T15:25:00+00:00", False),  # the sun sets; civil twilight has begun
        ("2026-12-02T16:30:00+00:00", True),
    ],
)
def test_dusk_at_the_made_up_site(clock, dark):
    assert is_dark(datetime.datetime.fromisoformat(clock).timestamp(), 47.30, 11.10) is dark


def test_beyond_the_circle_it_need_not_get_dark():
    june = datetime.datetime(2026, 6, 21, tzinfo=datetime.UTC).timestamp()
    assert not any(is_dark(june + 3600 * hour, 69.5, 18.9) for hour in range(24))
