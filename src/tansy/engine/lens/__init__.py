"""One series under the glass: look, fit, try, test, every period's arithmetic, and what a forecast is made of."""
