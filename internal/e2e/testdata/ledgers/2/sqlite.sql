PRAGMA foreign_keys=OFF;
BEGIN TRANSACTION;
CREATE TABLE t (id integer PRIMARY KEY, n integer, note varchar(40));
INSERT INTO t VALUES(1,1,'berth 1');
INSERT INTO t VALUES(2,2,'berth 2');
INSERT INTO t VALUES(3,3,'berth 3');
INSERT INTO t VALUES(4,4,'berth 4');
INSERT INTO t VALUES(5,5,'berth 5');
INSERT INTO t VALUES(6,6,'berth 6');
INSERT INTO t VALUES(7,7,'berth 7');
INSERT INTO t VALUES(8,8,'berth 8');
INSERT INTO t VALUES(9,9,'berth 9');
INSERT INTO t VALUES(10,10,'berth 10');
INSERT INTO t VALUES(11,11,'berth 11');
INSERT INTO t VALUES(12,12,'berth 12');
INSERT INTO t VALUES(13,13,'berth 13');
INSERT INTO t VALUES(14,14,'berth 14');
INSERT INTO t VALUES(15,15,'berth 15');
INSERT INTO t VALUES(16,16,'berth 16');
INSERT INTO t VALUES(17,17,'berth 17');
INSERT INTO t VALUES(18,18,'berth 18');
INSERT INTO t VALUES(19,19,'berth 19');
INSERT INTO t VALUES(20,20,'berth 20');
INSERT INTO t VALUES(21,43,'berth 21');
INSERT INTO t VALUES(22,45,'berth 22');
INSERT INTO t VALUES(23,47,'berth 23');
INSERT INTO t VALUES(24,49,'berth 24');
INSERT INTO t VALUES(25,51,'berth 25');
INSERT INTO t VALUES(26,53,'berth 26');
INSERT INTO t VALUES(27,55,'berth 27');
INSERT INTO t VALUES(28,57,'berth 28');
INSERT INTO t VALUES(29,59,'berth 29');
INSERT INTO t VALUES(30,61,'berth 30');
INSERT INTO t VALUES(31,63,'berth 31');
INSERT INTO t VALUES(32,65,'berth 32');
INSERT INTO t VALUES(33,67,'berth 33');
INSERT INTO t VALUES(34,69,'berth 34');
INSERT INTO t VALUES(35,71,'berth 35');
INSERT INTO t VALUES(36,73,'berth 36');
INSERT INTO t VALUES(37,75,'berth 37');
INSERT INTO t VALUES(38,77,'berth 38');
INSERT INTO t VALUES(39,79,'berth 39');
INSERT INTO t VALUES(40,81,'berth 40');
INSERT INTO t VALUES(41,83,'berth 41');
INSERT INTO t VALUES(42,85,'berth 42');
INSERT INTO t VALUES(43,87,'berth 43');
INSERT INTO t VALUES(44,89,'berth 44');
INSERT INTO t VALUES(45,91,'berth 45');
INSERT INTO t VALUES(46,93,'berth 46');
INSERT INTO t VALUES(47,95,'berth 47');
INSERT INTO t VALUES(48,97,'berth 48');
INSERT INTO t VALUES(49,99,'berth 49');
INSERT INTO t VALUES(50,101,'berth 50');
INSERT INTO t VALUES(51,103,'berth 51');
INSERT INTO t VALUES(52,105,'berth 52');
INSERT INTO t VALUES(53,107,'berth 53');
INSERT INTO t VALUES(54,109,'berth 54');
INSERT INTO t VALUES(55,111,'berth 55');
INSERT INTO t VALUES(56,113,'berth 56');
INSERT INTO t VALUES(57,115,'berth 57');
INSERT INTO t VALUES(58,117,'berth 58');
INSERT INTO t VALUES(59,119,'berth 59');
INSERT INTO t VALUES(60,121,'berth 60');
CREATE TABLE u (id integer PRIMARY KEY, n integer);
INSERT INTO u VALUES(1,4);
INSERT INTO u VALUES(2,7);
INSERT INTO u VALUES(3,10);
INSERT INTO u VALUES(4,13);
INSERT INTO u VALUES(5,16);
INSERT INTO u VALUES(6,19);
INSERT INTO u VALUES(7,22);
INSERT INTO u VALUES(8,25);
INSERT INTO u VALUES(9,28);
INSERT INTO u VALUES(10,10);
INSERT INTO u VALUES(11,34);
INSERT INTO u VALUES(12,37);
INSERT INTO u VALUES(13,40);
INSERT INTO u VALUES(14,43);
INSERT INTO u VALUES(15,46);
INSERT INTO u VALUES(16,49);
INSERT INTO u VALUES(17,52);
INSERT INTO u VALUES(18,55);
INSERT INTO u VALUES(19,58);
INSERT INTO u VALUES(20,20);
INSERT INTO u VALUES(21,64);
INSERT INTO u VALUES(22,67);
INSERT INTO u VALUES(23,70);
INSERT INTO u VALUES(24,73);
INSERT INTO u VALUES(25,25);
INSERT INTO u VALUES(26,26);
INSERT INTO u VALUES(27,27);
INSERT INTO u VALUES(28,28);
INSERT INTO u VALUES(29,29);
INSERT INTO u VALUES(30,30);
INSERT INTO u VALUES(31,31);
INSERT INTO u VALUES(32,32);
INSERT INTO u VALUES(33,33);
INSERT INTO u VALUES(34,34);
INSERT INTO u VALUES(35,35);
INSERT INTO u VALUES(36,36);
INSERT INTO u VALUES(37,37);
INSERT INTO u VALUES(38,38);
INSERT INTO u VALUES(39,39);
INSERT INTO u VALUES(40,40);
INSERT INTO u VALUES(41,41);
INSERT INTO u VALUES(42,42);
INSERT INTO u VALUES(43,43);
INSERT INTO u VALUES(44,44);
INSERT INTO u VALUES(45,45);
INSERT INTO u VALUES(46,46);
INSERT INTO u VALUES(47,47);
INSERT INTO u VALUES(48,48);
INSERT INTO u VALUES(49,49);
INSERT INTO u VALUES(50,50);
INSERT INTO u VALUES(51,51);
INSERT INTO u VALUES(52,52);
INSERT INTO u VALUES(53,53);
INSERT INTO u VALUES(54,54);
INSERT INTO u VALUES(55,55);
INSERT INTO u VALUES(56,56);
INSERT INTO u VALUES(57,57);
INSERT INTO u VALUES(58,58);
INSERT INTO u VALUES(59,59);
INSERT INTO u VALUES(60,60);
CREATE TABLE t_before(id INT,n INT,note TEXT);
INSERT INTO t_before VALUES(1,1,'berth 1');
INSERT INTO t_before VALUES(2,2,'berth 2');
INSERT INTO t_before VALUES(3,3,'berth 3');
INSERT INTO t_before VALUES(4,4,'berth 4');
INSERT INTO t_before VALUES(5,5,'berth 5');
INSERT INTO t_before VALUES(6,6,'berth 6');
INSERT INTO t_before VALUES(7,7,'berth 7');
INSERT INTO t_before VALUES(8,8,'berth 8');
INSERT INTO t_before VALUES(9,9,'berth 9');
INSERT INTO t_before VALUES(10,10,'berth 10');
INSERT INTO t_before VALUES(11,11,'berth 11');
INSERT INTO t_before VALUES(12,12,'berth 12');
INSERT INTO t_before VALUES(13,13,'berth 13');
INSERT INTO t_before VALUES(14,14,'berth 14');
INSERT INTO t_before VALUES(15,15,'berth 15');
INSERT INTO t_before VALUES(16,16,'berth 16');
INSERT INTO t_before VALUES(17,17,'berth 17');
INSERT INTO t_before VALUES(18,18,'berth 18');
INSERT INTO t_before VALUES(19,19,'berth 19');
INSERT INTO t_before VALUES(20,20,'berth 20');
INSERT INTO t_before VALUES(21,21,'berth 21');
INSERT INTO t_before VALUES(22,22,'berth 22');
INSERT INTO t_before VALUES(23,23,'berth 23');
INSERT INTO t_before VALUES(24,24,'berth 24');
INSERT INTO t_before VALUES(25,25,'berth 25');
INSERT INTO t_before VALUES(26,26,'berth 26');
INSERT INTO t_before VALUES(27,27,'berth 27');
INSERT INTO t_before VALUES(28,28,'berth 28');
INSERT INTO t_before VALUES(29,29,'berth 29');
INSERT INTO t_before VALUES(30,30,'berth 30');
INSERT INTO t_before VALUES(31,31,'berth 31');
INSERT INTO t_before VALUES(32,32,'berth 32');
INSERT INTO t_before VALUES(33,33,'berth 33');
INSERT INTO t_before VALUES(34,34,'berth 34');
INSERT INTO t_before VALUES(35,35,'berth 35');
INSERT INTO t_before VALUES(36,36,'berth 36');
INSERT INTO t_before VALUES(37,37,'berth 37');
INSERT INTO t_before VALUES(38,38,'berth 38');
INSERT INTO t_before VALUES(39,39,'berth 39');
INSERT INTO t_before VALUES(40,40,'berth 40');
INSERT INTO t_before VALUES(41,41,'berth 41');
INSERT INTO t_before VALUES(42,42,'berth 42');
INSERT INTO t_before VALUES(43,43,'berth 43');
INSERT INTO t_before VALUES(44,44,'berth 44');
INSERT INTO t_before VALUES(45,45,'berth 45');
INSERT INTO t_before VALUES(46,46,'berth 46');
INSERT INTO t_before VALUES(47,47,'berth 47');
INSERT INTO t_before VALUES(48,48,'berth 48');
INSERT INTO t_before VALUES(49,49,'berth 49');
INSERT INTO t_before VALUES(50,50,'berth 50');
INSERT INTO t_before VALUES(51,51,'berth 51');
INSERT INTO t_before VALUES(52,52,'berth 52');
INSERT INTO t_before VALUES(53,53,'berth 53');
INSERT INTO t_before VALUES(54,54,'berth 54');
INSERT INTO t_before VALUES(55,55,'berth 55');
INSERT INTO t_before VALUES(56,56,'berth 56');
INSERT INTO t_before VALUES(57,57,'berth 57');
INSERT INTO t_before VALUES(58,58,'berth 58');
INSERT INTO t_before VALUES(59,59,'berth 59');
INSERT INTO t_before VALUES(60,60,'berth 60');
CREATE TABLE IF NOT EXISTS "jugatum_ledger" (version INTEGER NOT NULL, made_at TEXT NOT NULL);
INSERT INTO jugatum_ledger VALUES(2,'2026-11-28 23:41:17.879122+00:00');
CREATE TABLE IF NOT EXISTS "jugatum_run" (
		id INTEGER PRIMARY KEY,        
		title TEXT NOT NULL,
		reason TEXT NOT NULL,
		undo_of INTEGER,               
		source_name TEXT NOT NULL, 
		source_text TEXT NOT NULL, 
		source_sql INTEGER NOT NULL,   
		params TEXT NOT NULL,      
		digest TEXT NOT NULL,      
		options TEXT NOT NULL,     
		status TEXT NOT NULL,      
		error TEXT NOT NULL,
		version TEXT NOT NULL,     
		os_user TEXT NOT NULL,
		db_user TEXT NOT NULL,
		host TEXT NOT NULL,
		pid INTEGER NOT NULL,
		holder TEXT NOT NULL,      
		heartbeat TEXT NOT NULL,
		started_at TEXT NOT NULL,
		ended_at TEXT,
		samples INTEGER NOT NULL,      
		looking_ms REAL NOT NULL,  
		server TEXT NOT NULL);
INSERT INTO jugatum_run VALUES(1,'UPDATE t SET n = n * 2 + 1 WHERE id > 20','',NULL,'--sql','UPDATE t SET n = n * 2 + 1 WHERE id > 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-28 23:41:17.864397+00:00"}}','2:cec9bf3ca41f29c5290b6f185e6fdee0dc9551aaaf8cee60ca57a512926d330c','{"hold":200000000,"batch":15,"keep":true,"limits":{},"seal":"090f1da723ca7f6b:3cfd842adfe093ac0733c3e7a7751491727c1ce72f54cbfb98f520e737875a6b","sealed_for":"saltmere_v2.db"}','done','','0.1.0-dev','root','','vm',27169,'vm/27169/1532687','2026-11-28 23:41:17.887006+00:00','2026-11-28 23:41:17.879810+00:00','2026-11-28 23:41:17.924294+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(2,'DELETE FROM t WHERE id <= 20','',NULL,'--sql','DELETE FROM t WHERE id <= 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-28 23:41:17.964118+00:00"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{"hold":200000000,"batch":15,"keep":true,"limits":{},"seal":"090f1da723ca7f6b:9b6a02ce527add7d64b8a35ae1bee22cb0c6827ed61f3d14ac1d7c5e0b618905","sealed_for":"saltmere_v2.db"}','done','','0.1.0-dev','root','','vm',27180,'vm/27180/1532704','2026-11-28 23:41:17.978809+00:00','2026-11-28 23:41:17.970200+00:00','2026-11-28 23:41:18.020267+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(3,'DELETE FROM t WHERE id <= 20','',2,'--sql','DELETE FROM t WHERE id <= 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-28 23:41:17.964118+00:00"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{"hold":200000000,"batch":15,"keep":true,"limits":{},"backwards":true,"seal":"090f1da723ca7f6b:05c2a3765a0b820ee34032251671f931dadd68b424cb71f3928ea7bc862fb89f","sealed_for":"saltmere_v2.db"}','done','','0.1.0-dev','root','','vm',27194,'vm/27194/1532717','2026-11-28 23:41:18.161966+00:00','2026-11-28 23:41:18.157646+00:00','2026-11-28 23:41:18.196596+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(4,'UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0','',NULL,'--sql','UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0',1,'{"time of the run":{"type":"timestamp","text":"2026-11-28 23:41:18.224717+00:00"}}','2:d7518f8cb2b95ae0791c9cbefad08dd85ce8cf883df8df4948f00388f93cddac','{"hold":200000000,"batch":8,"keep":true,"limits":{},"seal":"090f1da723ca7f6b:336293ee18cc9805114ba647e847a5a597d1321f3e4fa941b6544cb1ceb5998c","sealed_for":"saltmere_v2.db"}','failed','step "sql": u: row 25: constraint failed: a fault (1811); fix it, or let such rows be set aside (--set-aside)','0.1.0-dev','root','','vm',27204,'vm/27204/1532730','2026-11-28 23:41:18.273189+00:00','2026-11-28 23:41:18.242388+00:00','2026-11-28 23:41:18.318114+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(5,'UPDATE w SET n = n + 1 WHERE id > 0','',NULL,'--sql','UPDATE w SET n = n + 1 WHERE id > 0',1,'{"time of the run":{"type":"timestamp","text":"2026-11-28 23:41:18.346028+00:00"}}','2:aace9aac3d3bab6ee586c0703f6c8d2cec635785ad4b4600e5e679c6de61bf25','{"hold":200000000,"keep":true,"set_aside":3,"limits":{},"seal":"090f1da723ca7f6b:5e8f6404d93e1b3d6dceba53d5b0b49a7198eab940f90d6852a29e7c56400b6f","sealed_for":"saltmere_v2.db"}','done','','0.1.0-dev','root','','vm',27220,'vm/27220/1532742','2026-11-28 23:41:18.421002+00:00','2026-11-28 23:41:18.374743+00:00','2026-11-28 23:41:18.476084+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(6,'UPDATE w SET n = 100 + id WHERE id > 7','',NULL,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{"time of the run":{"type":"timestamp","text":"2026-11-28 23:41:18.492403+00:00"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{"hold":200000000,"keep":true,"limits":{},"seal":"090f1da723ca7f6b:d79f34d708cb01801053d433a5d5198b5a82da3c9d99b3e3bbd1fa15a4ad318b","sealed_for":"saltmere_v2.db"}','done','','0.1.0-dev','root','','vm',27229,'vm/27229/1532757','2026-11-28 23:41:18.504537+00:00','2026-11-28 23:41:18.498360+00:00','2026-11-28 23:41:18.534038+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(7,'UPDATE w SET n = 100 + id WHERE id > 7','',6,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{"time of the run":{"type":"timestamp","text":"2026-11-28 23:41:18.492403+00:00"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{"hold":200000000,"keep":true,"limits":{},"backwards":true,"seal":"090f1da723ca7f6b:1c32b5ecbcba9c819e1b97ecb3c96e9067108bb63207fbf5544a198f0d4fce51","sealed_for":"saltmere_v2.db"}','done','','0.1.0-dev','root','','vm',27238,'vm/27238/1532763','2026-11-28 23:41:18.560871+00:00','2026-11-28 23:41:18.556798+00:00','2026-11-28 23:41:18.590397+00:00',0,0.0,'{}');
CREATE TABLE IF NOT EXISTS "jugatum_step" (
		run INTEGER NOT NULL, n INTEGER NOT NULL,
		name TEXT NOT NULL,
		verb TEXT NOT NULL,        
		table_schema TEXT NOT NULL, table_name TEXT NOT NULL,
		key_columns TEXT NOT NULL, 
		set_columns TEXT NOT NULL, 
		method TEXT NOT NULL,      
		kept_table TEXT NOT NULL,  
		matched INTEGER NOT NULL,      
		to_change INTEGER NOT NULL,    
		table_rows INTEGER NOT NULL,   
		status TEXT NOT NULL,      
		PRIMARY KEY (run, n));
INSERT INTO jugatum_step VALUES(1,1,'sql','update','','t','["id"]','["n"]','sweep','"jugatum_kept_1_1"',40,40,60,'done');
INSERT INTO jugatum_step VALUES(2,1,'sql','delete','','t','["id"]','null','sweep','"jugatum_kept_2_1"',20,20,60,'done');
INSERT INTO jugatum_step VALUES(3,1,'sql','delete','','t','["id"]','null','undo','"jugatum_kept_2_1"',-1,20,20,'done');
INSERT INTO jugatum_step VALUES(4,1,'sql','update','','u','["id"]','["n"]','sweep','"jugatum_kept_4_1"',54,54,60,'running');
INSERT INTO jugatum_step VALUES(5,1,'sql','update','','w','["id"]','["n"]','sweep','"jugatum_kept_5_1"',7,7,10,'done');
INSERT INTO jugatum_step VALUES(6,1,'sql','update','','w','["id"]','["n"]','sweep','"jugatum_kept_6_1"',3,3,10,'done');
INSERT INTO jugatum_step VALUES(7,1,'sql','update','','w','["id"]','["n"]','undo','"jugatum_kept_6_1"',-1,3,3,'done');
CREATE TABLE IF NOT EXISTS "jugatum_lane" (
		run INTEGER NOT NULL, step INTEGER NOT NULL, n INTEGER NOT NULL,
		checkpoint TEXT NOT NULL,  
		walk_end TEXT NOT NULL,    
		batches INTEGER NOT NULL,
		kept INTEGER NOT NULL,         
		done INTEGER NOT NULL,
		PRIMARY KEY (run, step, n));
INSERT INTO jugatum_lane VALUES(1,1,1,'[60]','[60]',4,40,1);
INSERT INTO jugatum_lane VALUES(2,1,1,'[60]','[60]',4,20,1);
INSERT INTO jugatum_lane VALUES(3,1,1,'[20]','[20]',2,0,1);
INSERT INTO jugatum_lane VALUES(4,1,1,'[24]','[60]',3,22,0);
INSERT INTO jugatum_lane VALUES(5,1,1,'[10]','[10]',3,6,1);
INSERT INTO jugatum_lane VALUES(6,1,1,'[10]','[10]',1,3,1);
INSERT INTO jugatum_lane VALUES(7,1,1,'[3]','[3]',1,0,1);
CREATE TABLE IF NOT EXISTS "jugatum_batch" (
		run INTEGER NOT NULL, step INTEGER NOT NULL, lane INTEGER NOT NULL, n INTEGER NOT NULL,
		began_at TEXT NOT NULL,
		key_to TEXT NOT NULL,      
		kept_to INTEGER NOT NULL,      
		scanned INTEGER NOT NULL, matched INTEGER NOT NULL, changed INTEGER NOT NULL, 
		left_alone INTEGER NOT NULL,   
		hold_ms REAL,              
		lock_wait_ms REAL NOT NULL, 
		log_bytes INTEGER, log_records INTEGER, log_images INTEGER, log_scope TEXT,
		locks TEXT NOT NULL,       
		retries INTEGER NOT NULL,
		set_aside INTEGER NOT NULL,    
		waiters INTEGER NOT NULL,      
		pause_ms REAL NOT NULL,    
		why TEXT NOT NULL,         
		PRIMARY KEY (run, step, lane, n));
INSERT INTO jugatum_batch VALUES(1,1,1,1,'2026-11-28 23:41:17.886632+00:00','[15]',0,15,0,0,0,0.47499999999999997779,0.047000000000000000111,16480,4,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(1,1,1,2,'2026-11-28 23:41:17.913908+00:00','[30]',10,15,10,10,0,0.72899999999999998134,0.086999999999999994004,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(1,1,1,3,'2026-11-28 23:41:17.914939+00:00','[45]',25,15,15,15,0,1.3740000000000001101,0.014999999999999999444,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(1,1,1,4,'2026-11-28 23:41:17.916481+00:00','[60]',40,15,15,15,0,1.526000000000000023,0.025000000000000001387,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,1,'2026-11-28 23:41:17.978272+00:00','[15]',15,15,15,15,0,0.66900000000000003907,0.014999999999999999444,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,2,'2026-11-28 23:41:18.006159+00:00','[30]',20,15,5,5,0,0.88800000000000001154,0.094000000000000000222,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,3,'2026-11-28 23:41:18.007329+00:00','[45]',20,15,0,0,0,1.1209999999999999964,0.014000000000000000291,12360,3,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(2,1,1,4,'2026-11-28 23:41:18.008590+00:00','[60]',20,15,0,0,0,3.7789999999999999147,0.032000000000000000666,12360,3,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(3,1,1,1,'2026-11-28 23:41:18.161248+00:00','[15]',0,15,15,15,0,1.2299999999999999822,0.034000000000000002442,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(3,1,1,2,'2026-11-28 23:41:18.189974+00:00','[20]',0,5,5,5,0,1.0749999999999999555,0.053999999999999999389,16480,4,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(4,1,1,1,'2026-11-28 23:41:18.263371+00:00','[8]',8,8,8,8,0,9.9600000000000008526,0.024000000000000000499,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(4,1,1,2,'2026-11-28 23:41:18.300390+00:00','[16]',15,8,7,7,0,1.0920000000000000817,0.086999999999999994004,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(4,1,1,3,'2026-11-28 23:41:18.301810+00:00','[24]',22,8,7,7,0,0.83599999999999996536,0.012999999999999999403,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(5,1,1,1,'2026-11-28 23:41:18.420536+00:00','[3]',3,3,3,3,0,0.59999999999999997779,0.029000000000000001471,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(5,1,1,2,'2026-11-28 23:41:18.454249+00:00','[4]',3,1,1,0,0,0.51100000000000000976,0.0,NULL,NULL,NULL,'','null',0,1,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(5,1,1,3,'2026-11-28 23:41:18.454845+00:00','[10]',6,3,3,3,0,0.52200000000000001953,0.012000000000000000249,20600,5,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(6,1,1,1,'2026-11-28 23:41:18.503866+00:00','[10]',3,7,3,3,0,0.80400000000000004796,0.012999999999999999403,24720,6,NULL,'ours','null',0,0,-1,0.0,'');
INSERT INTO jugatum_batch VALUES(7,1,1,1,'2026-11-28 23:41:18.560139+00:00','[3]',0,3,3,1,2,0.85599999999999998312,0.010999999999999999361,28840,7,NULL,'ours','null',0,0,-1,0.0,'');
CREATE TABLE IF NOT EXISTS "jugatum_left_alone" (
		run INTEGER NOT NULL, step INTEGER NOT NULL, seq INTEGER NOT NULL,
		row_key TEXT NOT NULL,
		expected TEXT NOT NULL,    
		found TEXT NOT NULL,       
		PRIMARY KEY (run, step, seq));
INSERT INTO jugatum_left_alone VALUES(7,1,2,'9','{"n":"109"}','{"n":"7777"}');
INSERT INTO jugatum_left_alone VALUES(7,1,3,'10','{"n":"110"}','');
CREATE TABLE IF NOT EXISTS "jugatum_set_aside" (
		run INTEGER NOT NULL, step INTEGER NOT NULL, n INTEGER NOT NULL,
		row_key TEXT NOT NULL,     
		new_values TEXT NOT NULL,  
		error TEXT NOT NULL,
		at TEXT NOT NULL,
		retried_at TEXT,           
		PRIMARY KEY (run, step, n));
INSERT INTO jugatum_set_aside VALUES(5,1,1,'[4]','{"n":"5"}','constraint failed: CHECK constraint failed: five (275)','2026-11-28 23:41:18.454078+00:00',NULL);
CREATE TABLE IF NOT EXISTS "jugatum_waited" (
		run INTEGER NOT NULL, n INTEGER NOT NULL,
		session TEXT NOT NULL,     
		step INTEGER NOT NULL,
		began_at TEXT NOT NULL,
		wait_ms REAL NOT NULL,     
		waiting_for TEXT NOT NULL, 
		statement TEXT NOT NULL,
		PRIMARY KEY (run, n));
CREATE TABLE IF NOT EXISTS "jugatum_signal" (
		run INTEGER NOT NULL, n INTEGER NOT NULL,
		at TEXT NOT NULL,
		kind TEXT NOT NULL,        
		args TEXT NOT NULL,        
		who TEXT NOT NULL, host TEXT NOT NULL,
		seen_at TEXT,
		PRIMARY KEY (run, n));
CREATE TABLE IF NOT EXISTS "jugatum_kept_1_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_1_1 VALUES(1,21,21,43);
INSERT INTO jugatum_kept_1_1 VALUES(2,22,22,45);
INSERT INTO jugatum_kept_1_1 VALUES(3,23,23,47);
INSERT INTO jugatum_kept_1_1 VALUES(4,24,24,49);
INSERT INTO jugatum_kept_1_1 VALUES(5,25,25,51);
INSERT INTO jugatum_kept_1_1 VALUES(6,26,26,53);
INSERT INTO jugatum_kept_1_1 VALUES(7,27,27,55);
INSERT INTO jugatum_kept_1_1 VALUES(8,28,28,57);
INSERT INTO jugatum_kept_1_1 VALUES(9,29,29,59);
INSERT INTO jugatum_kept_1_1 VALUES(10,30,30,61);
INSERT INTO jugatum_kept_1_1 VALUES(11,31,31,63);
INSERT INTO jugatum_kept_1_1 VALUES(12,32,32,65);
INSERT INTO jugatum_kept_1_1 VALUES(13,33,33,67);
INSERT INTO jugatum_kept_1_1 VALUES(14,34,34,69);
INSERT INTO jugatum_kept_1_1 VALUES(15,35,35,71);
INSERT INTO jugatum_kept_1_1 VALUES(16,36,36,73);
INSERT INTO jugatum_kept_1_1 VALUES(17,37,37,75);
INSERT INTO jugatum_kept_1_1 VALUES(18,38,38,77);
INSERT INTO jugatum_kept_1_1 VALUES(19,39,39,79);
INSERT INTO jugatum_kept_1_1 VALUES(20,40,40,81);
INSERT INTO jugatum_kept_1_1 VALUES(21,41,41,83);
INSERT INTO jugatum_kept_1_1 VALUES(22,42,42,85);
INSERT INTO jugatum_kept_1_1 VALUES(23,43,43,87);
INSERT INTO jugatum_kept_1_1 VALUES(24,44,44,89);
INSERT INTO jugatum_kept_1_1 VALUES(25,45,45,91);
INSERT INTO jugatum_kept_1_1 VALUES(26,46,46,93);
INSERT INTO jugatum_kept_1_1 VALUES(27,47,47,95);
INSERT INTO jugatum_kept_1_1 VALUES(28,48,48,97);
INSERT INTO jugatum_kept_1_1 VALUES(29,49,49,99);
INSERT INTO jugatum_kept_1_1 VALUES(30,50,50,101);
INSERT INTO jugatum_kept_1_1 VALUES(31,51,51,103);
INSERT INTO jugatum_kept_1_1 VALUES(32,52,52,105);
INSERT INTO jugatum_kept_1_1 VALUES(33,53,53,107);
INSERT INTO jugatum_kept_1_1 VALUES(34,54,54,109);
INSERT INTO jugatum_kept_1_1 VALUES(35,55,55,111);
INSERT INTO jugatum_kept_1_1 VALUES(36,56,56,113);
INSERT INTO jugatum_kept_1_1 VALUES(37,57,57,115);
INSERT INTO jugatum_kept_1_1 VALUES(38,58,58,117);
INSERT INTO jugatum_kept_1_1 VALUES(39,59,59,119);
INSERT INTO jugatum_kept_1_1 VALUES(40,60,60,121);
CREATE TABLE IF NOT EXISTS "jugatum_kept_2_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_id" INTEGER, "old_n" INTEGER, "old_note" TEXT);
INSERT INTO jugatum_kept_2_1 VALUES(1,1,1,1,'berth 1');
INSERT INTO jugatum_kept_2_1 VALUES(2,2,2,2,'berth 2');
INSERT INTO jugatum_kept_2_1 VALUES(3,3,3,3,'berth 3');
INSERT INTO jugatum_kept_2_1 VALUES(4,4,4,4,'berth 4');
INSERT INTO jugatum_kept_2_1 VALUES(5,5,5,5,'berth 5');
INSERT INTO jugatum_kept_2_1 VALUES(6,6,6,6,'berth 6');
INSERT INTO jugatum_kept_2_1 VALUES(7,7,7,7,'berth 7');
INSERT INTO jugatum_kept_2_1 VALUES(8,8,8,8,'berth 8');
INSERT INTO jugatum_kept_2_1 VALUES(9,9,9,9,'berth 9');
INSERT INTO jugatum_kept_2_1 VALUES(10,10,10,10,'berth 10');
INSERT INTO jugatum_kept_2_1 VALUES(11,11,11,11,'berth 11');
INSERT INTO jugatum_kept_2_1 VALUES(12,12,12,12,'berth 12');
INSERT INTO jugatum_kept_2_1 VALUES(13,13,13,13,'berth 13');
INSERT INTO jugatum_kept_2_1 VALUES(14,14,14,14,'berth 14');
INSERT INTO jugatum_kept_2_1 VALUES(15,15,15,15,'berth 15');
INSERT INTO jugatum_kept_2_1 VALUES(16,16,16,16,'berth 16');
INSERT INTO jugatum_kept_2_1 VALUES(17,17,17,17,'berth 17');
INSERT INTO jugatum_kept_2_1 VALUES(18,18,18,18,'berth 18');
INSERT INTO jugatum_kept_2_1 VALUES(19,19,19,19,'berth 19');
INSERT INTO jugatum_kept_2_1 VALUES(20,20,20,20,'berth 20');
CREATE TABLE IF NOT EXISTS "jugatum_kept_4_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_4_1 VALUES(1,1,1,4);
INSERT INTO jugatum_kept_4_1 VALUES(2,2,2,7);
INSERT INTO jugatum_kept_4_1 VALUES(3,3,3,10);
INSERT INTO jugatum_kept_4_1 VALUES(4,4,4,13);
INSERT INTO jugatum_kept_4_1 VALUES(5,5,5,16);
INSERT INTO jugatum_kept_4_1 VALUES(6,6,6,19);
INSERT INTO jugatum_kept_4_1 VALUES(7,7,7,22);
INSERT INTO jugatum_kept_4_1 VALUES(8,8,8,25);
INSERT INTO jugatum_kept_4_1 VALUES(9,9,9,28);
INSERT INTO jugatum_kept_4_1 VALUES(10,11,11,34);
INSERT INTO jugatum_kept_4_1 VALUES(11,12,12,37);
INSERT INTO jugatum_kept_4_1 VALUES(12,13,13,40);
INSERT INTO jugatum_kept_4_1 VALUES(13,14,14,43);
INSERT INTO jugatum_kept_4_1 VALUES(14,15,15,46);
INSERT INTO jugatum_kept_4_1 VALUES(15,16,16,49);
INSERT INTO jugatum_kept_4_1 VALUES(16,17,17,52);
INSERT INTO jugatum_kept_4_1 VALUES(17,18,18,55);
INSERT INTO jugatum_kept_4_1 VALUES(18,19,19,58);
INSERT INTO jugatum_kept_4_1 VALUES(19,21,21,64);
INSERT INTO jugatum_kept_4_1 VALUES(20,22,22,67);
INSERT INTO jugatum_kept_4_1 VALUES(21,23,23,70);
INSERT INTO jugatum_kept_4_1 VALUES(22,24,24,73);
CREATE TABLE w (id integer PRIMARY KEY, n integer, CONSTRAINT five CHECK (n <> 5));
INSERT INTO w VALUES(1,2);
INSERT INTO w VALUES(2,3);
INSERT INTO w VALUES(3,4);
INSERT INTO w VALUES(4,4);
INSERT INTO w VALUES(8,9);
INSERT INTO w VALUES(9,7777);
CREATE TABLE IF NOT EXISTS "jugatum_kept_5_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_5_1 VALUES(1,1,1,2);
INSERT INTO jugatum_kept_5_1 VALUES(2,2,2,3);
INSERT INTO jugatum_kept_5_1 VALUES(3,3,3,4);
INSERT INTO jugatum_kept_5_1 VALUES(4,8,8,9);
INSERT INTO jugatum_kept_5_1 VALUES(5,9,9,10);
INSERT INTO jugatum_kept_5_1 VALUES(6,10,10,11);
CREATE TABLE IF NOT EXISTS "jugatum_kept_6_1" (seq INTEGER PRIMARY KEY, "key_id" INTEGER, "old_n" INTEGER, "new_n" INTEGER);
INSERT INTO jugatum_kept_6_1 VALUES(1,8,9,108);
INSERT INTO jugatum_kept_6_1 VALUES(2,9,10,109);
INSERT INTO jugatum_kept_6_1 VALUES(3,10,11,110);
COMMIT;
