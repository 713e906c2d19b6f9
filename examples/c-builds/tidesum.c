/* The level of the tide through some days, as a sum of waves; prints the highest of each. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>

static const double WAVES[][3] = {
    {1.42, 28.984, 61.0}, {0.51, 30.000, 102.0}, {0.29, 28.440, 38.0}, {0.16, 15.041, 221.0},
    {0.12, 13.943, 178.0}, {0.09, 57.968, 310.0}, {0.06, 14.959, 214.0}, {0.04, 86.952, 15.0},
};
enum { COUNT = sizeof WAVES / sizeof WAVES[0], STEPS = 1440 };

int main(int argc, char **argv)
{
    int days = argc > 1 ? atoi(argv[1]) : 30;
    double turn[COUNT][2], wave[COUNT][2];
    for (int i = 0; i < COUNT; i++) {
        double step = WAVES[i][1] / 60 * M_PI / 180, late = -WAVES[i][2] * M_PI / 180;
        turn[i][0] = cos(step), turn[i][1] = sin(step);
        wave[i][0] = WAVES[i][0] * cos(late), wave[i][1] = WAVES[i][0] * sin(late);
    }
    for (int day = 0; day < days; day++) {
        double highest = -100;
        for (int minute = 0; minute < STEPS; minute++) {
            double level = 3.10;
            for (int i = 0; i < COUNT; i++) {
                double real = wave[i][0], other = wave[i][1];
                level += real;
                wave[i][0] = real * turn[i][0] - other * turn[i][1];
                wave[i][1] = real * turn[i][1] + other * turn[i][0];
            }
            if (level > highest)
                highest = level;
        }
        printf("day %d high %.2f m\n", day + 1, highest);
    }
    return 0;
}
