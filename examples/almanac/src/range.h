/* How far a light is seen. */
#ifndef RANGE_H
#define RANGE_H

/* Over the curve of the sea, for an eye 5 metres above it; nautical miles. */
double range_geographic(double height);
/* Through air of a visibility of 10 nautical miles (Allard's law); nautical miles. */
double range_luminous(double candela);
/* The smaller of both. */
double range(double height, double candela);

#endif
