"""The ports: mean levels in metres, and the table of waves as the survey office sends it."""

MEANS = {"north": 3.10, "south": 2.45}
# Port, amplitude in metres, speed in degrees an hour, phase in degrees; in no order.
WAVES = """\
roads 0.03 86.952 325.3
roads 1.25 28.984  45.1
locks 0.33 30.000  75.8
locks 0.90 28.984 284.3
locks 0.17 28.440 223.2
south 0.33 30.000 131.0
creek 0.09 15.041 298.3
north 0.16 15.041 221.0
locks 0.02 86.952  40.4
creek 0.65 28.984 304.3
north 1.42 28.984  61.0
south 0.04 14.959 230.0
roads 0.05 14.959  46.1
south 0.05 57.968 350.0
creek 0.06 13.943 150.7
north 0.06 14.959 214.0
roads 0.20 15.041 282.2
locks 0.09 13.943  39.5
creek 0.04 57.968 156.6
north 0.04 86.952  15.0
roads 0.25 28.440 146.5
creek 0.02 14.959 113.7
south 0.02 86.952  42.0
south 0.15 13.943 190.0
north 0.29 28.440  38.0
north 0.12 13.943 178.0
locks 0.12 15.041 300.6
roads 0.14 13.943  85.5
north 0.09 57.968 310.0
south 0.21 28.440  64.0
creek 0.02 86.952  24.7
north 0.51 30.000 102.0
south 0.19 15.041 239.0
roads 0.08 57.968 104.1
locks 0.04 14.959  70.4
creek 0.14 28.440 204.6
creek 0.23 30.000 112.1
roads 0.48 30.000  62.7
locks 0.05 57.968 238.4
south 0.98 28.984  88.0
"""
