BEGIN TRANSACTION;
CREATE TABLE acts (
		number  INTEGER PRIMARY KEY,
		at      TEXT NOT NULL,
		"by"    TEXT NOT NULL,
		what    TEXT NOT NULL,
		did     TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(did)),
		ended   TEXT,
		outcome TEXT NOT NULL DEFAULT '',
		failed  INTEGER NOT NULL DEFAULT 0
	) STRICT;
INSERT INTO "acts" VALUES(1,'2026-11-25T04:28:15.812595725Z','marit','shift to 25 %','["split 25 % on green"]','2026-11-25T04:28:15.812999760Z','0 % → 25 % of the requests on green, in 1.2 ms',0);
INSERT INTO "acts" VALUES(2,'2026-11-25T04:28:15.813339011Z','marit','retire the spare side','[]','2026-11-25T04:28:15.813681947Z','permission denied',1);
CREATE TABLE crossings (
		number  INTEGER PRIMARY KEY,
		service TEXT NOT NULL,
		target  TEXT NOT NULL,
		version TEXT NOT NULL,
		build   TEXT NOT NULL DEFAULT '',
		begun   TEXT NOT NULL,
		stage   TEXT NOT NULL,
		ended   TEXT,
		why     TEXT NOT NULL DEFAULT ''
	) STRICT;
INSERT INTO "crossings" VALUES(1,'sailings','green','4.3.0','b92f','2026-10-02T09:30:00.000000000Z','settled','2026-10-02T11:10:56.019000000Z','');
INSERT INTO "crossings" VALUES(2,'sailings','blue','4.4.0','d00d','2026-10-02T12:11:31.019000000Z','rolled back','2026-10-02T12:13:00.025000000Z','failing: 12 % against 0.1 %, worse, 99.50 % sure');
INSERT INTO "crossings" VALUES(3,'sailings','blue','4.3.1','b92f','2026-10-02T13:13:00.025000000Z','called off','2026-10-02T13:13:04.025000000Z','the wrong one');
INSERT INTO "crossings" VALUES(4,'sailings','blue','4.5.0','beef','2026-10-02T14:13:05.025000000Z','shift',NULL,'it looks wrong');
CREATE TABLE events (
		crossing INTEGER NOT NULL REFERENCES crossings(number),
		seq      INTEGER NOT NULL,
		at       TEXT NOT NULL,
		event    TEXT NOT NULL CHECK (json_valid(event)),
		effects  TEXT NOT NULL CHECK (json_valid(effects)),
		PRIMARY KEY (crossing, seq)
	) STRICT;
INSERT INTO "events" VALUES(1,1,'2026-10-02T09:30:00.000000000Z','{"at":"2026-10-02T09:30:00Z","by":"marit","event":"begun","service":"sailings","number":1,"target":"green","version":"4.3.0","build":"b92f","live_version":"4.2.0","live_build":"7c1e","route":[{"part":500,"dwell":120000000000},{"part":5000,"dwell":300000000000,"ask":true},{"part":10000}],"keep":1800000000000,"then":"ask","hold":true,"share":0,"revision":7,"others":[{"part":"worker","version":"4.3.0","build":"wb92f","live_build":"w7c1e"}]}','[{"id":1,"do":"raise","side":"green","version":"4.3.0","share":0}]');
INSERT INTO "events" VALUES(1,2,'2026-10-02T09:30:20.000000000Z','{"at":"2026-10-02T09:30:20Z","by":"vaiven","event":"raise failed","effect":1,"why":"green-2 exited"}','[]');
INSERT INTO "events" VALUES(1,3,'2026-10-02T09:30:29.000000000Z','{"at":"2026-10-02T09:30:29Z","by":"marit","event":"next asked"}','[{"id":2,"do":"raise","side":"green","version":"4.3.0","share":0}]');
INSERT INTO "events" VALUES(1,4,'2026-10-02T09:30:50.000000000Z','{"at":"2026-10-02T09:30:50Z","by":"vaiven","event":"raised","effect":2,"build":"b92f","instances":["green-1","green-2"],"times":{"green-1":3000000000,"green-2":5000000000}}','[{"id":3,"do":"prove","side":"green","share":0}]');
INSERT INTO "events" VALUES(1,5,'2026-10-02T09:30:54.000000000Z','{"at":"2026-10-02T09:30:54Z","by":"vaiven","event":"proved","effect":3,"pass":false,"proof":{"results":[{"part":"web","kind":"smoke","check":"search","instance":"green-2","pass":false,"want":"status 200","got":"status 500 after 12ms","took":0,"tries":0,"at":"0001-01-01T00:00:00Z"}]}}','[]');
INSERT INTO "events" VALUES(1,6,'2026-10-02T09:30:58.000000000Z','{"at":"2026-10-02T09:30:58Z","by":"marit","event":"next asked"}','[{"id":4,"do":"prove","side":"green","share":0}]');
INSERT INTO "events" VALUES(1,7,'2026-10-02T09:31:02.000000000Z','{"at":"2026-10-02T09:31:02Z","by":"vaiven","event":"proved","effect":4,"pass":false,"proof":{"results":[{"part":"web","kind":"smoke","check":"search","instance":"green-1","pass":true,"want":"status 200","got":"status 200","took":0,"tries":0,"at":"0001-01-01T00:00:00Z"},{"part":"web","kind":"differences","check":"differences","instance":"green","pass":false,"ask":true,"want":"none that is not meant","got":"1: environment REGION","took":0,"tries":0,"at":"0001-01-01T00:00:00Z"}]}}','[]');
INSERT INTO "events" VALUES(1,8,'2026-10-02T09:31:06.000000000Z','{"at":"2026-10-02T09:31:06Z","by":"marit","event":"accept asked","findings":["differences on green: want none that is not meant, got 1: environment REGION"]}','[]');
INSERT INTO "events" VALUES(1,9,'2026-10-02T09:31:10.000000000Z','{"at":"2026-10-02T09:31:10Z","by":"marit","event":"next asked"}','[{"id":5,"do":"apply","side":"blue","share":500}]');
INSERT INTO "events" VALUES(1,10,'2026-10-02T09:31:10.003000000Z','{"at":"2026-10-02T09:31:10.003Z","by":"vaiven","event":"applied","effect":5,"share":500,"revision":8,"took":3000000,"did":["split 5 % on green"]}','[]');
INSERT INTO "events" VALUES(1,11,'2026-10-02T09:31:40.003000000Z','{"at":"2026-10-02T09:31:40.003Z","by":"marit","event":"freeze asked"}','[]');
INSERT INTO "events" VALUES(1,12,'2026-10-02T09:32:10.003000000Z','{"at":"2026-10-02T09:32:10.003Z","by":"marit","event":"go on asked"}','[]');
INSERT INTO "events" VALUES(1,13,'2026-10-02T09:32:20.003000000Z','{"at":"2026-10-02T09:32:20.003Z","by":"jonas","event":"prove asked"}','[{"id":6,"do":"prove","side":"green","share":0}]');
INSERT INTO "events" VALUES(1,14,'2026-10-02T09:32:23.003000000Z','{"at":"2026-10-02T09:32:23.003Z","by":"vaiven","event":"proved","effect":6,"pass":true,"proof":{"results":[{"part":"web","kind":"smoke","check":"search","instance":"green-1","pass":true,"want":"status 200","got":"status 200","took":0,"tries":0,"at":"0001-01-01T00:00:00Z"}]}}','[]');
INSERT INTO "events" VALUES(1,15,'2026-10-02T09:33:53.003000000Z','{"at":"2026-10-02T09:33:53.003Z","by":"vaiven","event":"tick"}','[]');
INSERT INTO "events" VALUES(1,16,'2026-10-02T09:33:58.003000000Z','{"at":"2026-10-02T09:33:58.003Z","by":"marit","event":"next asked"}','[{"id":7,"do":"apply","side":"blue","share":5000}]');
INSERT INTO "events" VALUES(1,17,'2026-10-02T09:34:23.003000000Z','{"at":"2026-10-02T09:34:23.003Z","by":"vaiven","event":"apply failed","effect":7,"why":"front does not answer"}','[]');
INSERT INTO "events" VALUES(1,18,'2026-10-02T09:34:28.003000000Z','{"at":"2026-10-02T09:34:28.003Z","by":"marit","event":"steer asked","share":2000}','[{"id":8,"do":"apply","side":"blue","share":2000}]');
INSERT INTO "events" VALUES(1,19,'2026-10-02T09:34:28.007000000Z','{"at":"2026-10-02T09:34:28.007Z","by":"vaiven","event":"applied","effect":8,"share":2000,"revision":9,"took":4000000}','[]');
INSERT INTO "events" VALUES(1,20,'2026-10-02T09:35:28.007000000Z','{"at":"2026-10-02T09:35:28.007Z","by":"guard","event":"tripped","guard":"over 250ms","action":"freeze","why":"8 % against 1 %, worse, 99.50 % sure"}','[]');
INSERT INTO "events" VALUES(1,21,'2026-10-02T09:35:33.007000000Z','{"at":"2026-10-02T09:35:33.007Z","by":"vaiven","event":"changed","share":3000}','[]');
INSERT INTO "events" VALUES(1,22,'2026-10-02T09:35:38.007000000Z','{"at":"2026-10-02T09:35:38.007Z","by":"marit","event":"put back asked"}','[{"id":9,"do":"apply","side":"blue","share":2000}]');
INSERT INTO "events" VALUES(1,23,'2026-10-02T09:35:38.011000000Z','{"at":"2026-10-02T09:35:38.011Z","by":"vaiven","event":"applied","effect":9,"share":2000,"revision":11,"took":4000000}','[]');
INSERT INTO "events" VALUES(1,24,'2026-10-02T10:35:38.011000000Z','{"at":"2026-10-02T10:35:38.011Z","by":"vaiven","event":"resumed","share":2000,"found":"the front sends 20 % to green, blue runs 3 of 3, green runs 2 of 2"}','[]');
INSERT INTO "events" VALUES(1,25,'2026-10-02T10:35:43.011000000Z','{"at":"2026-10-02T10:35:43.011Z","by":"marit","event":"go on asked"}','[{"id":10,"do":"prove","side":"green","share":0}]');
INSERT INTO "events" VALUES(1,26,'2026-10-02T10:35:46.011000000Z','{"at":"2026-10-02T10:35:46.011Z","by":"vaiven","event":"proved","effect":10,"pass":true,"proof":{"results":[{"part":"web","kind":"smoke","check":"search","instance":"green-1","pass":true,"want":"status 200","got":"status 200","took":0,"tries":0,"at":"0001-01-01T00:00:00Z"}]}}','[]');
INSERT INTO "events" VALUES(1,27,'2026-10-02T10:35:51.011000000Z','{"at":"2026-10-02T10:35:51.011Z","by":"marit","event":"next asked"}','[{"id":11,"do":"apply","side":"blue","share":5000}]');
INSERT INTO "events" VALUES(1,28,'2026-10-02T10:35:51.015000000Z','{"at":"2026-10-02T10:35:51.015Z","by":"vaiven","event":"applied","effect":11,"share":5000,"revision":12,"took":4000000}','[]');
INSERT INTO "events" VALUES(1,29,'2026-10-02T10:40:51.015000000Z','{"at":"2026-10-02T10:40:51.015Z","by":"vaiven","event":"tick"}','[{"id":12,"do":"apply","side":"blue","share":10000}]');
INSERT INTO "events" VALUES(1,30,'2026-10-02T10:40:51.019000000Z','{"at":"2026-10-02T10:40:51.019Z","by":"vaiven","event":"applied","effect":12,"share":10000,"revision":13,"took":4000000}','[]');
INSERT INTO "events" VALUES(1,31,'2026-10-02T11:10:51.019000000Z','{"at":"2026-10-02T11:10:51.019Z","by":"vaiven","event":"tick"}','[]');
INSERT INTO "events" VALUES(1,32,'2026-10-02T11:10:56.019000000Z','{"at":"2026-10-02T11:10:56.019Z","by":"marit","event":"next asked"}','[{"id":13,"do":"retire","side":"blue","share":0}]');
INSERT INTO "events" VALUES(1,33,'2026-10-02T11:11:21.019000000Z','{"at":"2026-10-02T11:11:21.019Z","by":"vaiven","event":"retire failed","effect":13,"why":"blue-2 resists"}','[]');
INSERT INTO "events" VALUES(1,34,'2026-10-02T11:11:26.019000000Z','{"at":"2026-10-02T11:11:26.019Z","by":"marit","event":"retire asked"}','[{"id":14,"do":"retire","side":"blue","share":0}]');
INSERT INTO "events" VALUES(1,35,'2026-10-02T11:11:31.019000000Z','{"at":"2026-10-02T11:11:31.019Z","by":"vaiven","event":"retired","effect":14,"side":"blue"}','[]');
INSERT INTO "events" VALUES(2,1,'2026-10-02T12:11:31.019000000Z','{"at":"2026-10-02T12:11:31.019Z","by":"marit","event":"begun","service":"sailings","number":2,"target":"blue","version":"4.4.0","build":"d00d","live_version":"4.2.0","live_build":"b92f","route":[{"part":500,"dwell":120000000000},{"part":5000,"dwell":300000000000,"ask":true},{"part":10000}],"keep":1800000000000,"then":"ask","hold":true,"share":10000,"revision":7,"others":[{"part":"worker","version":"4.4.0","build":"wd00d","live_build":"wb92f"}]}','[{"id":1,"do":"raise","side":"blue","version":"4.4.0","share":0}]');
INSERT INTO "events" VALUES(2,2,'2026-10-02T12:11:52.019000000Z','{"at":"2026-10-02T12:11:52.019Z","by":"vaiven","event":"raised","effect":1,"build":"d00d","instances":["blue-1"]}','[{"id":2,"do":"prove","side":"blue","share":0}]');
INSERT INTO "events" VALUES(2,3,'2026-10-02T12:11:56.019000000Z','{"at":"2026-10-02T12:11:56.019Z","by":"vaiven","event":"proved","effect":2,"pass":true,"proof":{"results":[{"part":"web","kind":"smoke","check":"search","instance":"green-1","pass":true,"want":"status 200","got":"status 200","took":0,"tries":0,"at":"0001-01-01T00:00:00Z"}]}}','[]');
INSERT INTO "events" VALUES(2,4,'2026-10-02T12:12:00.019000000Z','{"at":"2026-10-02T12:12:00.019Z","by":"marit","event":"next asked"}','[{"id":3,"do":"apply","side":"blue","share":9500}]');
INSERT INTO "events" VALUES(2,5,'2026-10-02T12:12:00.022000000Z','{"at":"2026-10-02T12:12:00.022Z","by":"vaiven","event":"applied","effect":3,"share":9500,"revision":14,"took":3000000}','[]');
INSERT INTO "events" VALUES(2,6,'2026-10-02T12:13:00.022000000Z','{"at":"2026-10-02T12:13:00.022Z","by":"guard","event":"tripped","guard":"failing","action":"roll back","why":"12 % against 0.1 %, worse, 99.50 % sure"}','[{"id":4,"do":"apply","side":"blue","share":10000,"home":true}]');
INSERT INTO "events" VALUES(2,7,'2026-10-02T12:13:00.025000000Z','{"at":"2026-10-02T12:13:00.025Z","by":"vaiven","event":"applied","effect":4,"share":10000,"revision":15,"took":3000000}','[]');
INSERT INTO "events" VALUES(3,1,'2026-10-02T13:13:00.025000000Z','{"at":"2026-10-02T13:13:00.025Z","by":"marit","event":"begun","service":"sailings","number":3,"target":"blue","version":"4.3.1","build":"b92f","live_version":"4.2.0","live_build":"b92f","route":[{"part":500,"dwell":120000000000},{"part":5000,"dwell":300000000000,"ask":true},{"part":10000}],"keep":1800000000000,"then":"ask","hold":true,"share":10000,"revision":7,"others":[{"part":"worker","version":"4.3.1","build":"wb92f","live_build":"wb92f"}]}','[]');
INSERT INTO "events" VALUES(3,2,'2026-10-02T13:13:04.025000000Z','{"at":"2026-10-02T13:13:04.025Z","by":"marit","event":"back asked","why":"the wrong one"}','[{"id":1,"do":"retire","side":"blue","share":0}]');
INSERT INTO "events" VALUES(3,3,'2026-10-02T13:13:05.025000000Z','{"at":"2026-10-02T13:13:05.025Z","by":"vaiven","event":"retired","effect":1,"side":"blue"}','[]');
INSERT INTO "events" VALUES(4,1,'2026-10-02T14:13:05.025000000Z','{"at":"2026-10-02T14:13:05.025Z","by":"marit","event":"begun","service":"sailings","number":4,"target":"blue","version":"4.5.0","build":"beef","live_version":"4.2.0","live_build":"b92f","route":[{"part":500,"dwell":120000000000},{"part":5000,"dwell":300000000000,"ask":true},{"part":10000}],"keep":1800000000000,"then":"ask","hold":true,"share":10000,"revision":7,"others":[{"part":"worker","version":"4.5.0","build":"wbeef","live_build":"wb92f"}]}','[{"id":1,"do":"raise","side":"blue","version":"4.5.0","share":0}]');
INSERT INTO "events" VALUES(4,2,'2026-10-02T14:13:26.025000000Z','{"at":"2026-10-02T14:13:26.025Z","by":"vaiven","event":"raised","effect":1,"build":"beef","instances":["blue-1"]}','[{"id":2,"do":"prove","side":"blue","share":0}]');
INSERT INTO "events" VALUES(4,3,'2026-10-02T14:13:30.025000000Z','{"at":"2026-10-02T14:13:30.025Z","by":"vaiven","event":"proved","effect":2,"pass":true,"proof":{"results":[{"part":"web","kind":"smoke","check":"search","instance":"green-1","pass":true,"want":"status 200","got":"status 200","took":0,"tries":0,"at":"0001-01-01T00:00:00Z"}]}}','[]');
INSERT INTO "events" VALUES(4,4,'2026-10-02T14:13:34.025000000Z','{"at":"2026-10-02T14:13:34.025Z","by":"marit","event":"next asked"}','[{"id":3,"do":"apply","side":"blue","share":9500}]');
INSERT INTO "events" VALUES(4,5,'2026-10-02T14:13:34.028000000Z','{"at":"2026-10-02T14:13:34.028Z","by":"vaiven","event":"applied","effect":3,"share":9500,"revision":16,"took":3000000}','[]');
INSERT INTO "events" VALUES(4,6,'2026-10-02T14:14:04.028000000Z','{"at":"2026-10-02T14:14:04.028Z","by":"marit","event":"back asked","why":"it looks wrong"}','[{"id":4,"do":"apply","side":"blue","share":10000,"home":true}]');
COMMIT;