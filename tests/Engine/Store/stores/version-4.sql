BEGIN TRANSACTION;
CREATE TABLE account (name TEXT PRIMARY KEY, permitted INTEGER NOT NULL, made INTEGER NOT NULL) STRICT;
INSERT INTO "account" VALUES('nobody',1,0);
CREATE TABLE beginning (began INTEGER PRIMARY KEY, kind TEXT NOT NULL, report TEXT NOT NULL) STRICT;
CREATE TABLE fact (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
INSERT INTO "fact" VALUES('permits','asked');
INSERT INTO "fact" VALUES('boot-id','00000000-0000-4000-8000-000000000000.1');
INSERT INTO "fact" VALUES('last-seen','2026-11-25T23:42:03.0440094+00:00');
CREATE TABLE granted (account TEXT NOT NULL, path TEXT NOT NULL, how TEXT NOT NULL, before TEXT NOT NULL, folder TEXT NOT NULL, PRIMARY KEY (account, path)) STRICT, WITHOUT ROWID;
INSERT INTO "granted" VALUES('nobody','/srv/skerry/srv/books','acl','user::rwx
group::---
other::---

','/srv/skerry/srv/books');
CREATE TABLE logbook (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, service TEXT, what TEXT NOT NULL, text TEXT NOT NULL, by TEXT, tells INTEGER) STRICT;
INSERT INTO "logbook" VALUES(1,1795650123043261,NULL,'serving','calm-sentry 0.1.0 serves /srv/skerry on quay as pid 29583.',NULL,0);
INSERT INTO "logbook" VALUES(2,1795650125001678,NULL,'account-permitted','The account nobody may run services now.','root',0);
INSERT INTO "logbook" VALUES(3,1795650125022789,'tide-store','wrapped','Wrapped: /bin/sleep, as nobody.','root',0);
INSERT INTO "logbook" VALUES(4,1795650125038300,'tide-store','start-asked','Start asked for.','root',0);
INSERT INTO "logbook" VALUES(5,1795650125041589,'tide-store','launched','Run 1 launched as pid 29630.',NULL,0);
INSERT INTO "logbook" VALUES(6,1795650125041735,'tide-store','proven','Run 1 is proven: it has stayed up for 0 s.',NULL,0);
INSERT INTO "logbook" VALUES(7,1795650125054877,'tide-store','stop-asked','Stop asked for.','root',0);
INSERT INTO "logbook" VALUES(8,1795650125055473,'tide-store','stopped','Run 1 was ended by signal TERM; TERM did it after 0.0 s.',NULL,0);
INSERT INTO "logbook" VALUES(9,1795650125071491,'berth-relay','wrapped','Wrapped: /bin/sh, as nobody.','root',0);
INSERT INTO "logbook" VALUES(10,1795650125084432,'berth-relay','start-asked','Start asked for.','root',0);
INSERT INTO "logbook" VALUES(11,1795650125085224,'tide-store','start-asked','Start asked for.','berth-relay, which needs it',0);
INSERT INTO "logbook" VALUES(12,1795650125087769,'tide-store','launched','Run 2 launched as pid 29664.',NULL,0);
INSERT INTO "logbook" VALUES(13,1795650125087974,'tide-store','proven','Run 2 is proven: it has stayed up for 0 s.',NULL,0);
INSERT INTO "logbook" VALUES(14,1795650125091016,'berth-relay','launched','Run 1 launched as pid 29668.',NULL,0);
INSERT INTO "logbook" VALUES(15,1795650125091599,'berth-relay','fell','Run 1 ended by itself with exit code 3, before it was proven: a failed start; next try in 1.07 s.',NULL,0);
INSERT INTO "logbook" VALUES(16,1795650125103920,'tide-store','secret-set','The secret TIDE_KEY was given a value.','root',0);
INSERT INTO "logbook" VALUES(17,1795650125132433,NULL,'folder-granted','nobody may read and write /srv/skerry/srv/books and what is in it.','root',0);
INSERT INTO "logbook" VALUES(18,1795650125246162,'berth-relay','stop-asked','Nothing of it was running.','root',0);
INSERT INTO "logbook" VALUES(19,1795650125247011,'tide-store','stop-asked','Stop asked for.','root',0);
INSERT INTO "logbook" VALUES(20,1795650125247506,'tide-store','stopped','Run 2 was ended by signal TERM; TERM did it after 0.0 s.',NULL,0);
CREATE TABLE moment (id INTEGER PRIMARY KEY, service TEXT NOT NULL, at INTEGER NOT NULL, state TEXT NOT NULL, health TEXT NOT NULL, time TEXT NOT NULL, why TEXT NOT NULL, next TEXT NOT NULL) STRICT;
INSERT INTO "moment" VALUES(1,'tide-store',1795650125020536,'stopped','unknown','planned','Registered, not running: it begins with the machine, or now with ''calm start tide-store''.','It begins with the machine; until then only when it is started.');
INSERT INTO "moment" VALUES(2,'tide-store',1795650125037136,'starting','unknown','planned','Being launched (run 1).','');
INSERT INTO "moment" VALUES(3,'tide-store',1795650125041715,'running','good','up','Running since 23:42:05 as pid 29630.','If it falls, it is not begun again by itself.');
INSERT INTO "moment" VALUES(4,'tide-store',1795650125054869,'stopping','unknown','planned','Asked to stop by root; TERM was sent, what is left at 23:42:15 is ended by force.','2026-11-25 23:42:15  What is left of it is ended by force.');
INSERT INTO "moment" VALUES(5,'tide-store',1795650125055000,'stopped','unknown','planned','Stopped at 23:42:05 as root asked; run 1 was ended by signal TERM.','It begins with the machine; until then only when it is started.');
INSERT INTO "moment" VALUES(6,'berth-relay',1795650125071446,'stopped','unknown','planned','Registered, not running: it begins with ''calm start berth-relay''.','Nothing happens by itself: it begins when it is started.');
INSERT INTO "moment" VALUES(7,'berth-relay',1795650125084397,'waiting','unknown','planned','To begin since 23:42:05; waits for tide-store (not looked at yet), until 23:47:05, then it is said and it waits on.','As soon as what it waits for is there, it is launched.
2026-11-25 23:47:05  If tide-store is still missing, it is said, and it waits on.');
INSERT INTO "moment" VALUES(8,'tide-store',1795650125084890,'starting','unknown','planned','Being launched (run 2).','');
INSERT INTO "moment" VALUES(9,'tide-store',1795650125087961,'running','good','up','Running since 23:42:05 as pid 29664.','If it falls, it is not begun again by itself.');
INSERT INTO "moment" VALUES(10,'berth-relay',1795650125088058,'starting','unknown','planned','Being launched (run 1).','');
INSERT INTO "moment" VALUES(11,'berth-relay',1795650125091000,'waiting','unknown','fallen','Run 1 ended by itself with exit code 3 at 23:42:05; next try at 23:42:06.','2026-11-25 23:42:06  It is tried again.');
INSERT INTO "moment" VALUES(12,'berth-relay',1795650125246157,'stopped','unknown','planned','Stopped at 23:42:05 as root asked, after run 1 ended by itself with exit code 3.','Nothing happens by itself: it begins when it is started.');
INSERT INTO "moment" VALUES(13,'tide-store',1795650125246990,'stopping','unknown','planned','Asked to stop by root; TERM was sent, what is left at 23:42:15 is ended by force.','2026-11-25 23:42:15  What is left of it is ended by force.');
INSERT INTO "moment" VALUES(14,'tide-store',1795650125247000,'stopped','unknown','planned','Stopped at 23:42:05 as root asked; run 2 was ended by signal TERM.','It begins with the machine; until then only when it is started.');
CREATE TABLE rehearsal (service TEXT PRIMARY KEY, at INTEGER NOT NULL, peak_bytes INTEGER NOT NULL, ports TEXT NOT NULL) STRICT;
CREATE TABLE revision (
  service TEXT NOT NULL, number INTEGER NOT NULL, at INTEGER NOT NULL, by TEXT NOT NULL, document TEXT NOT NULL,
  PRIMARY KEY (service, number)) STRICT, WITHOUT ROWID;
INSERT INTO "revision" VALUES('berth-relay',1,1795650125071446,'root','{"name":"berth-relay","title":"Berth relay","program":{"path":"/bin/sh","arguments":["-c","exit 3"]},"identity":{"account":"nobody"},"begin":{"needs":[{"service":"tide-store"}]}}');
INSERT INTO "revision" VALUES('tide-store',1,1795650125020536,'root','{"name":"tide-store","program":{"path":"/bin/sleep","arguments":["600"]},"identity":{"account":"nobody"},"begin":{"at":"boot","proof":{"up-for":"0s"}},"recover":{"after":"never"}}');
CREATE TABLE run (
  service TEXT NOT NULL, number INTEGER NOT NULL, cause TEXT NOT NULL, began INTEGER NOT NULL, launched INTEGER, ended INTEGER,
  pid INTEGER, revision INTEGER NOT NULL, outcome TEXT, code INTEGER, core INTEGER, detail TEXT, peak_kib INTEGER, cpu_us INTEGER, wanted INTEGER, proven INTEGER, proof TEXT, stop_us INTEGER, output_from INTEGER, begun_by TEXT, ended_by TEXT, bad INTEGER, well INTEGER, forced INTEGER, output_to INTEGER, origin TEXT, steps TEXT, evidence TEXT,
  PRIMARY KEY (service, number)) STRICT, WITHOUT ROWID;
INSERT INTO "run" VALUES('berth-relay',1,'asked',1795650125088058,1795650125091009,1795650125091000,29668,1,'exited',3,0,NULL,1932,1803,1795650125084397,NULL,NULL,NULL,0,'root','itself',1,0,0,0,'{"Revision":1,"Boot":"00000000-0000-4000-8000-000000000000.12","Files":[{"Role":"Program","Path":"/bin/dash","Size":125640,"Written":"2023-01-05T13:20:48+00:00"}]}',NULL,'{"LastLines":[],"Memory":null,"Cpu":null,"SampledAt":null,"CoreDump":null,"Changes":[],"WellRun":null}');
INSERT INTO "run" VALUES('tide-store',1,'asked',1795650125037136,1795650125041581,1795650125055000,29630,1,'signalled',15,0,NULL,1932,2230,1795650125037136,1795650125041715,'it has stayed up for 0 s',130,0,'root','root',0,1,0,0,'{"Revision":1,"Boot":"00000000-0000-4000-8000-000000000000.12","Files":[{"Role":"Program","Path":"/bin/sleep","Size":43888,"Written":"2022-09-20T15:27:27+00:00"}]}','[{"Index":0,"What":"TERM","At":"2026-11-25T23:42:05.0548698+00:00","Answer":null,"Failed":false,"EndedAfter":"00:00:00.0001302"}]',NULL);
INSERT INTO "run" VALUES('tide-store',2,'asked',1795650125084890,1795650125087763,1795650125247000,29664,1,'signalled',15,0,NULL,1932,1970,1795650125084890,1795650125087961,'it has stayed up for 0 s',9,0,'berth-relay, which needs it','root',0,1,0,0,'{"Revision":1,"Boot":"00000000-0000-4000-8000-000000000000.12","Files":[{"Role":"Program","Path":"/bin/sleep","Size":43888,"Written":"2022-09-20T15:27:27+00:00"}]}','[{"Index":0,"What":"TERM","At":"2026-11-25T23:42:05.2469905+00:00","Answer":null,"Failed":false,"EndedAfter":"00:00:00.0000095"}]',NULL);
CREATE TABLE secret (service TEXT NOT NULL, key TEXT NOT NULL, sealed TEXT NOT NULL, PRIMARY KEY (service, key)) STRICT, WITHOUT ROWID;
INSERT INTO "secret" VALUES('tide-store','TIDE_KEY','CfDJ8J87WN5iy4VDhTCX53FIthrmBQDO6dhqIQ-Y_6msTynkRT49WU8f5JW_QQGkdh1H04Eh7gLQSjY1mZgfGTLudJ7Il_yROIwMVX7XYz-4r1jgvSoLeJm7Cq1E6AiUrbAZnw');
CREATE TABLE service (name TEXT PRIMARY KEY, situation TEXT NOT NULL, revision INTEGER NOT NULL) STRICT;
INSERT INTO "service" VALUES('tide-store','{"Phase":"Stopped","Since":"2026-11-25T23:42:05.247+00:00","LastRun":2,"Run":null,"Awaited":null,"Lost":[],"HeldFor":null,"OnTrial":false,"WakeAt":null,"WindDownStep":0,"Steps":[],"Afterwards":"Rest","Pauses":0,"BadEnds":[],"Restarts":0,"LastEnd":{"Run":2,"Outcome":{"Kind":"Signalled","Code":15,"Core":false,"Detail":null,"IsGood":false},"At":"2026-11-25T23:42:05.247+00:00","AsAsked":true,"Forced":false,"FailedStart":false,"Bad":false,"Steps":[{"Index":0,"What":"TERM","At":"2026-11-25T23:42:05.2469905+00:00","Answer":null,"Failed":false,"EndedAfter":"00:00:00.0000095"}]},"Asked":{"What":"stop","By":"root","At":"2026-11-25T23:42:05.2469905+00:00"}}',1);
INSERT INTO "service" VALUES('berth-relay','{"Phase":"Stopped","Since":"2026-11-25T23:42:05.2461578+00:00","LastRun":1,"Run":null,"Awaited":null,"Lost":[],"HeldFor":null,"OnTrial":false,"WakeAt":null,"WindDownStep":0,"Steps":[],"Afterwards":"Rest","Pauses":0,"BadEnds":[],"Restarts":0,"LastEnd":{"Run":1,"Outcome":{"Kind":"Exited","Code":3,"Core":false,"Detail":null,"IsGood":false},"At":"2026-11-25T23:42:05.091+00:00","AsAsked":false,"Forced":false,"FailedStart":true,"Bad":true,"Steps":[]},"Asked":{"What":"stop","By":"root","At":"2026-11-25T23:42:05.2461578+00:00"}}',1);
CREATE TABLE session (hash TEXT PRIMARY KEY, account TEXT NOT NULL, until INTEGER NOT NULL) STRICT;
INSERT INTO "session" VALUES('098ab178bf7d7798e3ef0428fac4734ea97cfdf984542de1127e2e673b5b7f3a','root',1795693325235660);
CREATE INDEX logbook_service ON logbook (service, id);
CREATE INDEX logbook_tells ON logbook (id) WHERE tells = 1;
CREATE INDEX run_well ON run (service, number) WHERE well = 1;
CREATE INDEX moment_service ON moment (service, at);
COMMIT;
PRAGMA user_version=4;
