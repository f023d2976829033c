"""The outline fitter's tolerances, in one place."""

import attrs


@attrs.frozen
class FitSettings:
    """The fitter's tolerances, in pixels and degrees; one place for all of them.

    Attributes:
        least_detection_px: pieces are never recognised at a finer tolerance than this.
        noise_factor: recognition tolerance as a multiple of the contour's noise.
        corner_degrees: a turn over the corner window beyond which a place is a corner.
        corner_window_px: length of the lines whose directions are compared there.
        skip_px: rounded-off length next to a corner that does not count for recognition; longest_skip_px next to an
            acute one.
        rounding_px: half the width below which the lens closes an acute corner.
        recession_px: how far the lens draws the tip of a right angle back at most, more at an acute one;
            least_recession_px at any joint.
        clear_detection: contours recognised at up to so many times least_detection_px are clear: their sides can be
            carried on past a corner.
        free_tip_px, free_skip_px: in the place of recession and skip_px on other free-form outlines, whose corners are
            taken as they stand.
        smooth_degrees: a kink below which a joint is made smooth; free_smooth_degrees where a cubic ends.
        touch_px, most_kink_degrees: on a drawn outline, how near to touching two lines and arcs are whose joint was
            drawn smooth, and how far they
            may turn there.
        unsure_arc_px: shorter arcs are known so badly that they may be farther from touching.
        tangent_weight_px: weight of a smooth joint's kink in the first round, in pixels a radian.
        whole_px: lines and arcs of an outline that was not drawn with them go as a whole or stay where they are longer
            than this.
        division_px: shorter ones may be broken up into parts about this long.
        stretches: shares of the tolerance that are tried one after the other, since the joint adjustment gains some of
            it back.
        leash_px: how far a joint may move before the points are shared out anew between its pieces.
        rebreaks: how often that is done at most, free_rebreaks on free-form outlines that are not clear; halvings: how
            often pieces that leave the contour are halved.
        candidates, cubic_candidates: how many places are tried around a contour; rough_spacing_px: how far apart they
            are on a rough one.
    """

    least_detection_px: float = 0.25
    noise_factor: float = 4.0
    corner_degrees: float = 28.0
    corner_window_px: int = 6
    skip_px: float = 3.0
    rounding_px: float = 1.7
    longest_skip_px: float = 11.0
    recession_px: float = 1.1
    least_recession_px: float = 0.4
    free_tip_px: float = 0.5
    free_skip_px: float = 2.0
    clear_detection: float = 1.4
    free_smooth_degrees: float = 24.0
    smooth_degrees: float = 14.0
    touch_px: float = 0.3
    unsure_arc_px: float = 60.0
    most_kink_degrees: float = 40.0
    tangent_weight_px: float = 60.0
    whole_px: float = 60.0
    division_px: float = 6.0
    stretches: tuple = (1.6, 1.2, 0.9)
    leash_px: float = 8.0
    rebreaks: int = 6
    free_rebreaks: int = 3
    halvings: int = 8
    candidates: int = 300
    cubic_candidates: int = 80
    rough_spacing_px: float = 5.0


SETTINGS = FitSettings()
