"""How operations do what they do: method, source and advice, for the help pages. The formulas stand with the code."""

from __future__ import annotations

METHODS: dict[str, str] = {
    "import-holes": "Holes are desurveyed by minimum curvature: between two readings the path is an arc of a circle (Taylor & Mason 1972; Zaremba 1973), or by balanced tangential lines. **Look at the findings first**: what was mended, left out or is in doubt stands there with its line.",
    "import-lines": "A reading of exactly 0 far from all others is a gap. Where readings have no elevation they get that of the ground and a height above it.",
    "import-resistivity": "Geometric factors are those of the electrodes where they are, with images for buried ones (Keller & Frischknecht 1966). Readings are drawn at the median depth of investigation (Roy & Apparao 1971; Barker 1989). The error between reciprocals is kept (Slater et al. 2000): trust it more than the instrument's.",
    "exclude-spikes": "A spike is one reading, or two, off the middle of its neighbours by more than the noise and by four times what the line bends nearby. A steep anomaly is none. Look at the profile before and after.",
    "diurnal-correction": "The base record is drawn straight between its readings and taken off by time. Where it has a gap, or has not begun, readings stay without a corrected value. A record without dates is followed over midnight.",
    "grid-minimum-curvature": "The smoothest surface through the data, a thin plate, with tension so that it does not swing where data are far apart (Briggs 1974; Smith & Wessel 1990). Dense readings are one median a cell, held within their noise. Tension 0.25 for potential fields, 0.35 to 0.5 for steep topography (Smith & Wessel 1990).",
    "grid-kriging": "The best linear estimate from the nearest samples by their variogram (Matheron 1963; Isaaks & Srivastava 1989), with its variance. Fit the variogram before you trust the variance. A drift is fitted only where the samples around a cell determine it.",
    "grid-neighbours": "Inverse distance (Shepard 1968), nearest neighbour (Thiessen 1911), natural neighbours (Sibson 1981), triangles, or radial basis functions (Duchon 1977). Natural neighbours need no choice and never leave the range of the data.",
    "cross-validate": "Each sample is left out and estimated from the others. Compare the root mean square and the slope: 1 means that the estimates are not too smooth (Isaaks & Srivastava 1989, ch. 15).",
    "contours": "Lines through the cells where the value is just the level; nothing is smoothed.",
    "resample-grid": "Larger cells hold the mean of the old ones by area; cells of about the same size are read between the four nearest.",
    "fill-grid": "Gaps are closed by a plate under tension through the cells around them (Briggs 1974).",
    "filter-grid": "Filters of the spectrum, with the level and plane taken off and the margins continued (Blakely 1995). Reduction to the pole (Baranov & Naudy 1964) is limited in amplitude below 20° of inclination. The field's direction is that of the IGRF at the place and date, or as given: no hemisphere is assumed.",
    "regional-residual": "The regional is a polynomial by least squares, or the field continued upward; the residual is what is left.",
    "source-depth": "The slope of the logarithm of the radial spectrum gives the depth of an ensemble of sources (Spector & Grant 1970). Read it over a band that is straight, and in windows several times as wide as the depth.",
    "lineaments": "Ridges of the grid thinned to lines and followed from end to end. Direction counts more than any single line.",
    "anomalies": "Cells above a threshold, by percentile or by deviations, outlined as polygons.",
    "level-by-unit": "Values are set against those of the same rock unit, so that background does not pass for anomaly (Hawkes & Webb 1962).",
    "principal-components": "Of centred log-ratios, since parts of a whole are not free of each other (Aitchison 1986; Hotelling 1933).",
    "composite": "Grades are averaged over even lengths from the collar, weighted by the length of each part that was sampled; too little sampled leaves a gap.",
    "invert-magnetics": "The smoothest non-negative susceptibility that explains the readings within their noise, weighted by depth (Li & Oldenburg 1996, 1998). The true body is more compact than the picture: smooth models spread it. Noise that is set too low puts structure where there is none.",
    "invert-gravity": "The smoothest density contrast that explains the readings within their noise, weighted by depth (Li & Oldenburg 1998). Gravity says how much mass there is better than how deep it lies: hold the model with what drilling knows.",
    "invert-together": "Each model explains its own readings; both are held to change in the same places by their cross-gradient (Gallardo & Meju 2003), taking turns. It makes models alike where the readings leave a choice, which is an assumption about the rocks.",
    "coincidence": "Cells that share faces are one body; overlap is twice the common volume over the sum of both (Dice 1945). Two smooth models of one place overlap more than the bodies do.",
    "gravity-of-model": "The field of every cell as a prism in closed form (Nagy et al. 2000).",
    "grade-shell": "A surface of one grade through a field of radial basis functions fitted to composites (Duchon 1977; Carr et al. 2001), stretched along plane and direction. It is a drawing of continuity, no estimate of tonnage.",
    "rank-targets": "Evidence is put on one scale and added with weights; the score says how much speaks for a place, not how much metal is there.",
}
