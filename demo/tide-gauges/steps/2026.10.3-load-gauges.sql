COPY gauge FROM stdin;
NM1	North mole head	0.000
EQ1	East quay steps	0.120
OF1	Outer fairway	-0.045
\.
