"""Commands that measure: whether the plan keeps its promises."""
