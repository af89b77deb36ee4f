COPY harbour.quay (code, name) FROM stdin;
N	North mole
E	East quay
F	Fish quay; ice house
\.

COPY harbour.berth (quay, number, max_length_m, max_depth_m) FROM stdin;
N	1	240	12.5
N	2	240	12.5
N	3	180	10.0
E	1	160	8.5
E	2	160	8.5
E	3	120	7.0
F	1	60	4.5
F	2	45	4.0
\.
