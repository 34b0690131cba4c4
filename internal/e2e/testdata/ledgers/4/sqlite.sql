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
INSERT INTO jugatum_ledger VALUES(4,'2026-11-30 18:59:28.285104+00:00');
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
INSERT INTO jugatum_run VALUES(1,'UPDATE t SET n = n * 2 + 1 WHERE id > 20','',NULL,'--sql','UPDATE t SET n = n * 2 + 1 WHERE id > 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-30 18:59:28.278233+00:00"}}','2:cec9bf3ca41f29c5290b6f185e6fdee0dc9551aaaf8cee60ca57a512926d330c','{"hold":200000000,"batch":15,"keep":true,"limits":{},"consent":{"rows":40,"hazards":[{"step":"sql","code":"not-cleared","level":"warning","text":"n is computed from itself and the filter still matches afterwards: a second run would change the rows again"}]},"seal":"4e2b7ae06b42e320:4f4ba268d12241b9e087c2a50fad40b040b3e1e30ec03878aeb80f17b99efe81","sealed_for":"saltmere_v4.db","consent_seal":"4e2b7ae06b42e320:82695ee199832e73043e8bf0c9035c5770a3f3e7655d4ca19e93462b3334fc40"}','done','','0.2.0-dev','root','','vm',7426,'vm/7426/4793028','2026-11-30 18:59:28.296875+00:00','2026-11-30 18:59:28.288644+00:00','2026-11-30 18:59:28.339393+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(2,'DELETE FROM t WHERE id <= 20','',NULL,'--sql','DELETE FROM t WHERE id <= 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-30 18:59:28.395341+00:00"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{"hold":200000000,"batch":15,"keep":true,"limits":{},"consent":{"rows":20,"hazards":[{"step":"sql","code":"kept-deleted","level":"note","text":"the rows live on in the kept values that undo needs, also what was to be forgotten; --keep none keeps nothing"}]},"seal":"4e2b7ae06b42e320:e27fb33e9c4a7f8d81ff598006cb0d68bb27aceabaf2e119ed18b0a0677b1853","sealed_for":"saltmere_v4.db","consent_seal":"4e2b7ae06b42e320:ab81e867f8c2fb53975a74dc8189d54a242faa113493152d25e86e215ddb0696"}','done','','0.2.0-dev','root','','vm',7445,'vm/7445/4793048','2026-11-30 18:59:28.413505+00:00','2026-11-30 18:59:28.404564+00:00','2026-11-30 18:59:28.455937+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(3,'DELETE FROM t WHERE id <= 20','',2,'--sql','DELETE FROM t WHERE id <= 20',1,'{"time of the run":{"type":"timestamp","text":"2026-11-30 18:59:28.395341+00:00"}}','2:8d91d0ab7d8fca4c7133283ee158717d7ff8ec7627cdadda99ab86b92042b1ae','{"hold":200000000,"batch":15,"keep":true,"limits":{},"backwards":true,"seal":"4e2b7ae06b42e320:c67735cf2d5575ab5d290514d3bd1f51d7cb948a4e7acf1639d347bb2c578abc","sealed_for":"saltmere_v4.db"}','done','','0.2.0-dev','root','','vm',7458,'vm/7458/4793059','2026-11-30 18:59:28.597528+00:00','2026-11-30 18:59:28.576174+00:00','2026-11-30 18:59:28.638669+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(4,'UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0','',NULL,'--sql','UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0',1,'{"time of the run":{"type":"timestamp","text":"2026-11-30 18:59:28.717295+00:00"}}','2:d7518f8cb2b95ae0791c9cbefad08dd85ce8cf883df8df4948f00388f93cddac','{"hold":200000000,"batch":8,"keep":true,"limits":{},"consent":{"rows":54,"hazards":[{"step":"sql","code":"not-cleared","level":"warning","text":"n is computed from itself and the filter still matches afterwards: a second run would change the rows again"},{"step":"sql","code":"trigger","level":"note","text":"trigger fault (before update) fires for 54 rows; what it changes elsewhere is not kept"}]},"seal":"4e2b7ae06b42e320:bc47ae79b07851371f5528b8495e8c9e7badf48dc843af96114236a3ef736ad8","sealed_for":"saltmere_v4.db","consent_seal":"4e2b7ae06b42e320:8220c091d8f66fc6a9a18eff31ecb95bbcaddaacb89164cb4d7c506be26c39c4"}','failed','step "sql": u: row 25: constraint failed: a fault (1811); fix it, or let such rows be set aside (--set-aside)','0.2.0-dev','root','','vm',7478,'vm/7478/4793077','2026-11-30 18:59:28.828211+00:00','2026-11-30 18:59:28.801861+00:00','2026-11-30 18:59:28.858890+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(5,'UPDATE w SET n = n + 1 WHERE id > 0','',NULL,'--sql','UPDATE w SET n = n + 1 WHERE id > 0',1,'{"time of the run":{"type":"timestamp","text":"2026-11-30 18:59:28.913558+00:00"}}','2:aace9aac3d3bab6ee586c0703f6c8d2cec635785ad4b4600e5e679c6de61bf25','{"hold":200000000,"keep":true,"set_aside":3,"limits":{},"consent":{"rows":7,"hazards":[{"step":"sql","code":"not-cleared","level":"warning","text":"n is computed from itself and the filter still matches afterwards: a second run would change the rows again"}]},"seal":"4e2b7ae06b42e320:7a357b73e4f0ebe2e775ce6ffa4ba40f6876ad9e3fd33629ece1db4b436ff945","sealed_for":"saltmere_v4.db","consent_seal":"4e2b7ae06b42e320:087277b249ebe9dbdf8b6ae90889e5b0d343a6389a87897eb0b6e9ed039686ec"}','done','','0.2.0-dev','root','','vm',7492,'vm/7492/4793102','2026-11-30 18:59:28.957789+00:00','2026-11-30 18:59:28.939055+00:00','2026-11-30 18:59:29.020942+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(6,'UPDATE w SET n = 100 + id WHERE id > 7','',NULL,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{"time of the run":{"type":"timestamp","text":"2026-11-30 18:59:29.136369+00:00"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{"hold":200000000,"keep":true,"limits":{},"consent":{"rows":3},"seal":"4e2b7ae06b42e320:a0ca1b3df3cf173d0659e8f8d8de70262c1f35d28b9e12a43481ed01c4602c97","sealed_for":"saltmere_v4.db","consent_seal":"4e2b7ae06b42e320:22886ed64cbb33a8daa18d1b0d7017d30e0ed4a369dc34d3bc17c05aaa132fa7"}','done','','0.2.0-dev','root','','vm',7500,'vm/7500/4793116','2026-11-30 18:59:29.172162+00:00','2026-11-30 18:59:29.154413+00:00','2026-11-30 18:59:29.205503+00:00',0,0.0,'{}');
INSERT INTO jugatum_run VALUES(7,'UPDATE w SET n = 100 + id WHERE id > 7','',6,'--sql','UPDATE w SET n = 100 + id WHERE id > 7',1,'{"time of the run":{"type":"timestamp","text":"2026-11-30 18:59:29.136369+00:00"}}','2:438e522a28b30d2e5d2dd84980e3076b441cb0a13a84f5a844420281fa25616f','{"hold":200000000,"keep":true,"limits":{},"backwards":true,"seal":"4e2b7ae06b42e320:b65d0678b2c06a11eab2ecc54d171b746854b15316d60a2574359626442daf4e","sealed_for":"saltmere_v4.db"}','done','','0.2.0-dev','root','','vm',7514,'vm/7514/4793134','2026-11-30 18:59:29.360110+00:00','2026-11-30 18:59:29.347498+00:00','2026-11-30 18:59:29.389746+00:00',0,0.0,'{}');
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
		walk TEXT NOT NULL,        
		PRIMARY KEY (run, n));
INSERT INTO jugatum_step VALUES(1,1,'sql','update','','t','["id"]','["n"]','sweep','"jugatum_kept_1_1"',40,40,60,'done','{"lanes":[{"n":1,"from":"","to":"[60]"}],"seal":"4e2b7ae06b42e320:17f397b951c36f783b877647e26fd6989a6da36b01a792238a7d4f124feedecb"}');
INSERT INTO jugatum_step VALUES(2,1,'sql','delete','','t','["id"]','null','sweep','"jugatum_kept_2_1"',20,20,60,'done','{"lanes":[{"n":1,"from":"","to":"[60]"}],"seal":"4e2b7ae06b42e320:bd8b143ba0febb186ebabbfb58a1c164b285e0d09cedca317c13a4a57c1753f5"}');
INSERT INTO jugatum_step VALUES(3,1,'sql','delete','','t','["id"]','null','undo','"jugatum_kept_2_1"',-1,20,20,'done','{"lanes":[{"n":1,"from":"","to":"[20]"}],"seal":"4e2b7ae06b42e320:bd0caadcfd8ff691f0f00029a3d543ab89533636236419abdd85c7e8f9afd027"}');
INSERT INTO jugatum_step VALUES(4,1,'sql','update','','u','["id"]','["n"]','sweep','"jugatum_kept_4_1"',54,54,60,'running','{"lanes":[{"n":1,"from":"","to":"[60]"}],"seal":"4e2b7ae06b42e320:4423709b3570f72aa08bddb735fa89918c96398f54877883908b609ae74711e0"}');
INSERT INTO jugatum_step VALUES(5,1,'sql','update','','w','["id"]','["n"]','sweep','"jugatum_kept_5_1"',7,7,10,'done','{"lanes":[{"n":1,"from":"","to":"[10]"}],"seal":"4e2b7ae06b42e320:8aa7b8f5e9292b4571cccff8f52218dd684509bec09a358766fe62f2f89b4b02"}');
INSERT INTO jugatum_step VALUES(6,1,'sql','update','','w','["id"]','["n"]','sweep','"jugatum_kept_6_1"',3,3,10,'done','{"lanes":[{"n":1,"from":"","to":"[10]"}],"seal":"4e2b7ae06b42e320:a0070ad8c240ef84b7aafa9255bac120830edd3dcff6a6bf333ec458da9fc973"}');
INSERT INTO jugatum_step VALUES(7,1,'sql','update','','w','["id"]','["n"]','undo','"jugatum_kept_6_1"',-1,3,3,'done','{"lanes":[{"n":1,"from":"","to":"[3]"}],"seal":"4e2b7ae06b42e320:4d7b78c6c361fe9b3b79a4d8d46c97136520d5a33beaea5fc6c690b7248c9a49"}');
CREATE TABLE IF NOT EXISTS "jugatum_act" (
		run INTEGER NOT NULL, step INTEGER NOT NULL,
		n INTEGER NOT NULL,            
		by_columns TEXT NOT NULL,  
		verb TEXT NOT NULL,        
		table_schema TEXT NOT NULL, table_name TEXT NOT NULL,
		key_columns TEXT NOT NULL, 
		set_columns TEXT NOT NULL, 
		kept_table TEXT NOT NULL,  
		to_change INTEGER NOT NULL,    
		PRIMARY KEY (run, step, n));
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
		skipped INTEGER NOT NULL,      
		hold_ms REAL,              
		lock_wait_ms REAL NOT NULL, 
		log_bytes INTEGER, log_records INTEGER, log_images INTEGER, log_scope TEXT,
		locks TEXT NOT NULL,       
		retries INTEGER NOT NULL,
		set_aside INTEGER NOT NULL,    
		waiters INTEGER NOT NULL,      
		pause_ms REAL NOT NULL,    
		why TEXT NOT NULL,         
		acts TEXT NOT NULL,        
		PRIMARY KEY (run, step, lane, n));
INSERT INTO jugatum_batch VALUES(1,1,1,1,'2026-11-30 18:59:28.296499+00:00','[15]',0,15,0,0,0,0.44900000000000001021,0.025999999999999998806,16480,4,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(1,1,1,2,'2026-11-30 18:59:28.323230+00:00','[30]',10,15,10,10,0,0.71699999999999997069,0.105999999999999997,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(1,1,1,3,'2026-11-30 18:59:28.324193+00:00','[45]',25,15,15,15,0,0.48999999999999999111,0.014000000000000000291,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(1,1,1,4,'2026-11-30 18:59:28.324886+00:00','[60]',40,15,15,15,0,0.432999999999999996,0.0080000000000000001665,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(2,1,1,1,'2026-11-30 18:59:28.408105+00:00','[15]',15,15,15,15,0,5.9340000000000001634,0.014000000000000000291,24720,6,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(2,1,1,2,'2026-11-30 18:59:28.442216+00:00','[30]',20,15,5,5,0,0.65100000000000002309,0.091999999999999998445,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(2,1,1,3,'2026-11-30 18:59:28.443200+00:00','[45]',20,15,0,0,0,0.61199999999999998845,0.017999999999999998639,12360,3,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(2,1,1,4,'2026-11-30 18:59:28.444144+00:00','[60]',20,15,0,0,0,0.32900000000000001465,0.017000000000000001221,12360,3,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(3,1,1,1,'2026-11-30 18:59:28.589028+00:00','[15]',0,15,15,15,0,14.455999999999999516,0.014999999999999999444,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(3,1,1,2,'2026-11-30 18:59:28.630993+00:00','[20]',0,5,5,5,0,0.48899999999999999023,0.058000000000000002942,16480,4,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(4,1,1,1,'2026-11-30 18:59:28.806332+00:00','[8]',8,8,8,8,0,22.018999999999998352,0.016000000000000000333,24720,6,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(4,1,1,2,'2026-11-30 18:59:28.855641+00:00','[16]',15,8,7,7,0,0.76400000000000001243,0.073999999999999996336,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(4,1,1,3,'2026-11-30 18:59:28.856620+00:00','[24]',22,8,7,7,0,0.49699999999999999733,0.022999999999999999611,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(5,1,1,1,'2026-11-30 18:59:28.957202+00:00','[3]',3,3,3,3,0,0.70099999999999995647,0.021000000000000001304,24720,6,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(5,1,1,2,'2026-11-30 18:59:29.018581+00:00','[4]',3,1,1,0,0,32.017000000000003013,0.0,NULL,NULL,NULL,'','null',0,1,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(5,1,1,3,'2026-11-30 18:59:29.019126+00:00','[10]',6,3,3,3,0,0.40999999999999997557,0.010000000000000000208,20600,5,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(6,1,1,1,'2026-11-30 18:59:29.171828+00:00','[10]',3,7,3,3,0,0.43699999999999999955,0.014000000000000000291,24720,6,NULL,'ours','null',0,0,-1,0.0,'','');
INSERT INTO jugatum_batch VALUES(7,1,1,1,'2026-11-30 18:59:29.358071+00:00','[3]',0,3,3,1,2,2.1659999999999999253,0.17799999999999999156,28840,7,NULL,'ours','null',0,0,-1,0.0,'','');
CREATE TABLE IF NOT EXISTS "jugatum_outcome" (
		run INTEGER NOT NULL, step INTEGER NOT NULL,
		kind TEXT NOT NULL,        
		n INTEGER NOT NULL,            
		row_key TEXT NOT NULL,     
		detail TEXT NOT NULL,      
		                             
		                             
		at TEXT NOT NULL,
		settled_at TEXT,           
		PRIMARY KEY (run, step, kind, n));
INSERT INTO jugatum_outcome VALUES(5,1,'set aside',1,'[4]','{"new":{"n":"5"},"error":"constraint failed: CHECK constraint failed: five (275)"}','2026-11-30 18:59:29.010693+00:00',NULL);
INSERT INTO jugatum_outcome VALUES(7,1,'skipped',2,'9','{"expected":{"n":"109"},"found":{"n":"7777"}}','2026-11-30 18:59:29.359103+00:00',NULL);
INSERT INTO jugatum_outcome VALUES(7,1,'skipped',3,'10','{"expected":{"n":"110"}}','2026-11-30 18:59:29.359103+00:00',NULL);
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
